package export

import (
	"path"
	"strings"

	"havvel/internal/export/web"
)

// A Link is one place that names a file or address, and where it leads.
type Link struct {
	web.Link
	From   *File
	Path   string // in the export, when it leads inside
	Folder string // in the export, that the target is relative to; "." is the root
	To     *File  // nil when it leads to no file, or to several
	Result Result
}

// Result is where a link leads, in one word.
type Result string

// The results.
const (
	Found       Result = "found"
	Compressed  Result = "found-compressed" // only the compressed form of the file is there
	Missing     Result = "missing"
	OtherCase   Result = "other-case" // found under another letter case
	Absolute    Result = "absolute"   // a path from the host's root
	OtherOrigin Result = "other-origin"
	Insecure    Result = "insecure" // another origin, without encryption
	Inline      Result = "inline"   // data in the address itself, or nothing that is loaded
)

// maxMatches bounds the work of finding what names with unknown parts can mean.
const maxMatches = 20_000_000

// resolve finds out where all links lead. A text that could be a file's name and is none is dropped.
func (b *Build) resolve() {
	b.dirs = b.folders()
	patterns := map[string]bool{}
	b.Links, b.linked, b.from, b.vague = nil, map[*File]bool{}, map[*File][]Link{}, map[*File]Link{}
	b.to, b.apart = map[*File][]int{}, map[*File]bool{}
	b.place = b.expected()
	b.findPages()
	b.findWorkers()
	for _, f := range b.Parts() {
		for _, l := range f.links {
			link := b.lead(f, l)
			if link.Certainty == web.Possible {
				if strings.Contains(l.Target, "*") || strings.HasSuffix(l.Target, "/") {
					// A pattern is held against every file, so there is a limit to how many are tried.
					if key := path.Dir(f.Path) + "\x00" + l.Target; !patterns[key] && len(patterns)*len(b.Files) < maxMatches {
						patterns[key] = true
						b.matching(b.lead(f, l))
					}
					continue
				}
				// A file that is missing from a folder that is there is most likely a mistake; other texts are not names.
				if link.To == nil && (link.Result != Missing || !b.dirs[path.Dir(link.Path)] || !strings.Contains(l.Target, "/")) {
					continue
				}
			}
			if link.Result == Missing && link.Certainty == web.Likely && l.Module {
				// What a tool wrote for when nobody names the file, as the bundler does that renamed it.
				if twin := b.hashed(link.Path); twin != nil {
					b.linked[twin] = true
					continue
				}
			}
			if link.To != nil {
				b.linked[link.To] = true
				b.to[link.To] = append(b.to[link.To], len(b.Links))
			}
			b.Links = append(b.Links, link)
			b.from[f] = append(b.from[f], link)
		}
	}
}

// lead follows one link. A script's names are relative to the page that runs it, unless the language says otherwise;
// since loaders do both, they are also tried beside the script and at the root.
func (b *Build) lead(f *File, l web.Link) Link {
	type place struct{ from, base string }
	own := place{f.Path, ""}
	places := []place{own}
	switch {
	case f.Page != nil:
		places[0].base = f.Page.Base
	case f.Script != nil && !l.Module && b.apart[f]:
		places = []place{own, {b.Base + "x", ""}}
	case f.Script != nil && !l.Module && b.Entry != nil:
		places = []place{b.page(f), own, {b.Base + "x", ""}}
	case l.Module && l.Certainty != web.Certain && b.Entry != nil:
		places = []place{own, b.page(f)}
		for _, p := range b.inner {
			if f.Script == nil { // data that a page's script may have asked for
				places = append(places, place{p.Path, p.Page.Base})
			}
		}
	}
	var first Link
	for i, at := range places {
		link := b.leadFrom(f, l, at.from, at.base)
		if link.To != nil && link.Result != OtherCase || len(places) == 1 {
			return link
		}
		if i == 0 || link.To != nil && first.To == nil || first.To == nil && !b.dirs[path.Dir(first.Path)] && b.dirs[path.Dir(link.Path)] {
			first = link // where it leads, or at least to a folder that is there
		}
	}
	return first
}

// expected is the folder of the host that a bundler's base path puts the build into: all of the entry page's scripts that start at the
// host's root are found below it.
func (b *Build) expected() (place string) {
	b.place = ""
	if b.Entry == nil || b.Entry.Page == nil {
		return ""
	}
	for _, l := range b.Entry.Page.Links {
		target, where := web.Resolve(b.Entry.Path, b.Entry.Page.Base, l.Target)
		if l.Use != "script" || l.Certainty != web.Certain || where != web.Absolute {
			continue
		}
		inside := target
		for b.byPath[b.Base+inside] == nil {
			_, rest, ok := strings.Cut(inside, "/")
			if !ok {
				return ""
			}
			inside = rest
		}
		at := strings.TrimSuffix(target, inside)
		if place != "" && at != place || at == "" {
			return ""
		}
		place = at
	}
	return place
}

// Root is the path on a host where the entry page expects the build to be: "/", or a folder as "/lane/".
func (b *Build) Root() string { return "/" + b.place }

// findWorkers marks the scripts that run apart from the page.
func (b *Build) findWorkers() {
	for _, f := range b.Parts() {
		for _, l := range f.links {
			if l.Worker {
				if to := b.lead(f, l).To; to != nil && to.Script != nil {
					b.apart[to] = true
				}
			}
		}
	}
}

// findPages finds out which page runs a script.
func (b *Build) findPages() {
	b.runs, b.inner = map[*File]*File{}, nil
	if b.Entry == nil {
		return
	}
	pages := []*File{b.Entry}
	for _, f := range b.Parts() {
		if f.Page != nil && f != b.Entry {
			pages = append(pages, f)
		}
	}
	for _, page := range pages {
		found := false
		for next := []*File{page}; len(next) > 0; next = next[1:] {
			for _, l := range next[0].links {
				if l.Use != "script" || l.Certainty != web.Certain {
					continue
				}
				if to := b.lead(next[0], l).To; to != nil && to.Script != nil && b.runs[to] == nil {
					b.runs[to], found = page, true
					next = append(next, to)
				}
			}
		}
		if found && path.Dir(page.Path) != path.Dir(b.Entry.Path) && len(b.inner) < 4 {
			b.inner = append(b.inner, page)
		}
	}
}

// page is what the names in a script are relative to: the page that runs it, or its base.
func (b *Build) page(f *File) (at struct{ from, base string }) {
	page := b.runs[f]
	if page == nil {
		page = b.Entry
	}
	at.from = page.Path
	if page.Page != nil {
		at.base = page.Page.Base
	}
	return at
}

func (b *Build) leadFrom(f *File, l web.Link, from, base string) Link {
	link := Link{Link: l, From: f, Folder: web.Folder(from, base)}
	target, where := web.Resolve(from, base, l.Target)
	switch where {
	case web.Nowhere:
		link.Result = Inline
		return link
	case web.Outside:
		link.Result = OtherOrigin
		if t := strings.ToLower(l.Target); strings.HasPrefix(t, "http:") || strings.HasPrefix(t, "ws:") {
			link.Result = Insecure
		}
		return link
	case web.Absolute:
		inside := strings.TrimPrefix(target, b.place)
		link.Result, link.Path, link.Folder = Absolute, target, path.Clean(strings.TrimPrefix(link.Folder+"/", b.place))
		link.To = b.byPath[b.Base+inside]
		if f.Kind == KindText && l.Certainty == web.Possible && b.Entry != nil && path.Dir(f.Path) != path.Dir(b.Entry.Path) {
			link.Whole, link.Tail = false, 0 // relative to what, the script decides that reads it: the data or the page
		}
		return link
	}
	link.Path = target
	if l.Use == "page" && (target == "." || b.byPath[path.Join(target, EntryName)] != nil) {
		link.Result, link.To = Found, b.byPath[path.Join(target, EntryName)] // a folder, which a host answers with its page
		return link
	}
	link.To, link.Result = b.find(target)
	return link
}

// find looks for a file by the name that a link gives it.
func (b *Build) find(target string) (*File, Result) {
	if f := b.byPath[target]; f != nil {
		return f, Found
	}
	for _, ending := range []string{".gz", ".br"} {
		if f := b.byPath[target+ending]; f != nil && f.Encoding != "" {
			return f, Compressed
		}
	}
	if f := b.inAnyCase(target); f != nil {
		return f, OtherCase
	}
	return nil, Missing
}

// hashed is the file that has this path but for a hash in its name, or nil.
func (b *Build) hashed(target string) *File {
	for _, f := range b.Parts() {
		more := len(f.Path) - len(target)
		if more < 7 || path.Dir(f.Path) != path.Dir(target) || path.Ext(f.Path) != path.Ext(target) {
			continue
		}
		for i := range target {
			if f.Path[:i] == target[:i] && f.Path[i+more:] == target[i:] && isHash(f.Path[i:i+more]) {
				return f
			}
		}
	}
	return nil
}

// isHash reports whether a part of a name is one that bundlers put in: a hyphen, dot or underscore, and letters with digits among them.
func isHash(part string) bool {
	const letters = "abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ_-"
	return strings.ContainsAny(part[:1], "-._") && strings.ContainsAny(part, "0123456789") && strings.Trim(part[1:], letters+"0123456789") == ""
}

// Modules lists the scripts that the entry page is sure to run: those that it names, and what these import.
func (b *Build) Modules() []*File {
	var list []*File
	seen := map[*File]bool{b.Entry: true}
	for next := []*File{b.Entry}; len(next) > 0; next = next[1:] {
		for _, l := range b.from[next[0]] {
			if l.To == nil || l.To.Script == nil || seen[l.To] || l.Use != "script" || l.Certainty != web.Certain {
				continue
			}
			seen[l.To] = true
			list, next = append(list, l.To), append(next, l.To)
		}
	}
	return list
}

func (b *Build) folders() map[string]bool {
	folders := map[string]bool{}
	for _, f := range b.Parts() {
		for dir := path.Dir(f.Path); dir != "."; dir = path.Dir(dir) {
			folders[dir] = true
		}
	}
	return folders
}

// matching marks the files that a name with unknown parts, or the name of a folder, can mean.
func (b *Build) matching(l Link) {
	f := l.From
	prefix, _, star := strings.Cut(l.Target, "*")
	suffix := ""
	if i := strings.LastIndexByte(l.Target, '*'); i >= 0 {
		suffix = l.Target[i+1:]
	}
	if len(prefix)+len(suffix) < 4 && suffix != ".gz" && suffix != ".br" || suffix == "" && !strings.HasSuffix(prefix, "/") && (!star || len(prefix) < 4) {
		return
	}
	page := f.Path
	if b.Entry != nil {
		page = b.page(f).from
	}
	for _, from := range []string{page, f.Path} {
		dir := path.Dir(from)
		whole := strings.TrimPrefix(path.Join(dir, prefix), "./")
		if strings.HasSuffix(prefix, "/") {
			if !b.dirs[whole] && prefix != "" {
				continue
			}
			whole += "/"
		}
		if prefix == "" {
			whole = ""
		}
		for _, other := range b.Parts() {
			if strings.HasPrefix(other.Path, whole) && (strings.HasSuffix("/"+other.Path, suffix) || strings.HasSuffix("/"+other.PlainPath(), suffix)) && other != f {
				b.linked[other] = true
				if _, ok := b.vague[other]; !ok && star && strings.HasSuffix("/"+other.Path, suffix) {
					b.vague[other] = l
				}
			}
		}
	}
}

// Vague returns a link that has parts which are not known and may mean the file; ok is false when there is none.
func (b *Build) Vague(f *File) (l Link, ok bool) {
	l, ok = b.vague[f]
	return l, ok
}

// PlainPath is the file's path without the ending of its compression.
func (f *File) PlainPath() string {
	if f.Encoding == "" {
		return f.Path
	}
	return withoutEnding(f.Path, ".gz", ".gzip", ".br")
}

// Unlinked lists the files that nothing is known to load: no link leads to them, and no name with unknown parts can
// mean them. A game may still load them by a name that it puts together.
func (b *Build) Unlinked() []*File {
	var list []*File
	for _, f := range b.Parts() {
		if f != b.Entry && !b.linked[f] {
			list = append(list, f)
		}
	}
	return list
}
