package export

import (
	"path"
	"slices"
	"strings"

	"havvel/internal/export/link"
)

// maxMatches bounds the work of finding what names with unknown parts can mean.
const maxMatches = 20_000_000

// drops reports whether what may be the name of a file is none. What it may mean where parts are unknown is noted.
func (b *Build) drops(x Link, patterns map[string]bool) bool {
	if strings.Contains(x.Target, link.Star) || strings.HasSuffix(x.Target, "/") {
		// A pattern is held against every file, so there is a limit to how many are tried.
		if key := path.Dir(x.From.Path) + "\x00" + x.Target; !patterns[key] && len(patterns)*len(b.Files) < maxMatches {
			patterns[key] = true
			b.matching(x)
		}
		return x.Result != Absolute || !b.rooted(x)
	}
	if x.To == nil && x.Result == Missing {
		alone := len(b.parts) == 1 // a page that holds all that it loads names that, too
		loader := packed(x.Target) && (x.Base != link.OfAny || x.From.Page != nil) && !alone && !x.Default
		return !loader && !(strings.Contains(x.Target, "/") && b.sibling(x.Path))
	}
	return x.To == nil
}

// sibling reports whether a folder has other files that end as a name does which is not there.
func (b *Build) sibling(name string) bool {
	dir, ext := path.Dir(name), strings.ToLower(path.Ext(name))
	if sources[ext] {
		return false // names of modules that a bundler put into one script
	}
	return b.dirs[dir] && slices.ContainsFunc(b.Parts(), func(f *File) bool {
		return path.Dir(f.Path) == dir && strings.EqualFold(path.Ext(f.Path), ext)
	})
}

// sources end the names of what games are made from; a script that holds its modules names them by their paths.
var sources = map[string]bool{
	".js":  true,
	".mjs": true,
	".cjs": true,
	".ts":  true,
	".tsx": true,
	".jsx": true,
	".css": true,
	".vue": true,
	".md":  true,
	".map": true,
}

// packed reports whether a name is that of a file that only a game's loader reads: nothing else is called so.
func packed(name string) bool {
	name, _, _ = strings.Cut(name, "?")
	switch strings.ToLower(path.Ext(name)) {
	case ".wasm", ".data", ".pck", ".pak", ".pack":
		return true
	}
	return false
}

// rooted reports whether a name with unknown parts that starts at the host's root is one of the build's: what is known of it is the
// folder that the build expects, or one of its own.
func (b *Build) rooted(x Link) bool {
	known, _, star := strings.Cut(x.Target, link.Star)
	if i := strings.LastIndexByte(known, '/'); i >= 0 {
		known = known[:i+1]
	}
	inside, found := strings.CutPrefix(strings.TrimPrefix(known, "/"), b.place)
	switch folder := strings.TrimSuffix(inside, "/"); {
	case !found:
		return false
	case folder != "":
		return b.dirs[path.Clean(b.Base+folder)]
	case b.place != "":
		return true
	}
	return star && x.Base != link.OfAny && known == "/" || star && b.suffixed(x.Target)
}

// suffixed reports whether a file of the build ends as a name does whose beginning is not known.
func (b *Build) suffixed(target string) bool {
	end := target[strings.LastIndex(target, link.Star)+1:]
	return len(end) > 3 && slices.ContainsFunc(b.Parts(), func(f *File) bool { return strings.HasSuffix(f.Path, end) })
}

// matching marks the files that a name with unknown parts, or the name of a folder, can mean.
func (b *Build) matching(l Link) {
	prefix, _, star := strings.Cut(l.Target, "*")
	suffix := ""
	if i := strings.LastIndexByte(l.Target, '*'); i >= 0 {
		suffix = l.Target[i+1:]
	}
	if len(prefix)+len(suffix) < 4 && suffix != ".gz" && suffix != ".br" ||
		suffix == "" && !strings.HasSuffix(prefix, "/") && (!star || len(prefix) < 4) {
		return
	}
	for _, from := range b.placesOf(l.From, l.Base) {
		whole, ok := b.beginning(from, prefix)
		if !ok {
			continue
		}
		for _, other := range b.Parts() {
			if strings.HasPrefix(other.Path, whole) && other != l.From {
				b.match(other, suffix, &l, star)
			}
		}
	}
}

// beginning is what the path of each file begins with that a name means which begins so; false where there is no such folder.
func (b *Build) beginning(from, prefix string) (string, bool) {
	if prefix == "" {
		return "", true
	}
	whole := strings.TrimPrefix(path.Join(path.Dir(from), prefix), "./")
	if !strings.HasSuffix(prefix, "/") {
		return whole, true
	}
	return whole + "/", b.dirs[whole]
}

// match marks a file if its name ends so.
func (b *Build) match(f *File, suffix string, l *Link, star bool) {
	exact := endsWith(f.Path, suffix)
	if !exact && (f.Encoding == "" || !endsWith(f.PlainPath(), suffix)) {
		return
	}
	b.linked[f] = true
	if _, ok := b.vague[f]; !ok && star && exact {
		b.vague[f] = l
	}
}

// endsWith reports whether a path ends as a name does, of which a slash at the beginning may stand for the root.
func endsWith(path, suffix string) bool {
	return strings.HasSuffix(path, suffix) || len(suffix) == len(path)+1 && suffix[0] == '/' && suffix[1:] == path
}

// placesOf are the paths that names in a file may be relative to.
func (b *Build) placesOf(f *File, base link.Base) []string {
	list := []string{f.Path}
	if base != link.OfFile {
		for _, r := range b.Runners(f) {
			if from, _ := r.base(); !slices.Contains(list, from) {
				list = append(list, from)
			}
		}
	}
	return list
}

// Vague returns a link that has parts which are not known and may mean the file; ok is false when there is none.
func (b *Build) Vague(f *File) (l Link, ok bool) {
	if p := b.vague[f]; p != nil {
		return *p, true
	}
	return Link{}, false
}
