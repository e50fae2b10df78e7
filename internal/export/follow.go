package export

import (
	"errors"
	"fmt"
	"net/url"
	"path"
	"strings"

	"havvel/internal/export/web"
)

// Rewritten is the text that must stand at the link's place, so that it names target. ok is false where that can't be
// written with certainty: the name is put together from parts that stand elsewhere.
func (l Link) Rewritten(target string) (text string, ok bool) {
	keep := len(l.Target) - l.Tail
	if l.Tail > 0 && strings.HasPrefix(target, l.Target[:keep]) {
		return target[keep:], plain(target[keep:], l.Target)
	}
	return target, l.Whole && plain(target, l.Target)
}

// plain reports whether a text can stand in a page, a script and a stylesheet alike; what stood there before, can.
func plain(text, before string) bool {
	for _, c := range text {
		if strings.ContainsRune("\"'`<>&\\ ()", c) && !strings.ContainsRune(before, c) {
			return false
		}
	}
	return true
}

// Named is the link's target when the file it leads to has that path in the export: only the last part of the target changes
// when the file stays in its folder, and all of it otherwise.
func (l Link) Named(to string) string {
	end := len(l.Target)
	if i := strings.IndexAny(l.Target, "?#"); i >= 0 {
		end = i
	}
	if l.Result != OtherCase && l.Result != Absolute && l.To != nil && path.Dir(l.To.Path) == path.Dir(to) {
		folder := strings.LastIndexByte(l.Target[:end], '/') + 1
		return l.Target[:folder] + l.escaped(path.Base(to)) + l.Target[end:]
	}
	target := relative(l.Folder, to)
	if strings.HasPrefix(l.Target, "./") || l.Use == "script" && l.Module && !strings.HasPrefix(target, "../") {
		target = "./" + target
	}
	return l.escaped(target) + l.Target[end:]
}

// escaped is a path as the link's place wants it: an address where the language says that it is one.
func (l Link) escaped(target string) string {
	if l.From.Page == nil && l.From.Style == nil && !strings.Contains(l.Target, "%") {
		return target
	}
	return (&url.URL{Path: target}).EscapedPath()
}

// relative is the path from a folder to a file; both are paths in the export.
func relative(folder, to string) string {
	up := ""
	for folder != "." && folder != "" && !strings.HasPrefix(to, folder+"/") {
		folder = path.Dir(folder)
		up += "../"
	}
	if folder != "." && folder != "" {
		to = to[len(folder)+1:]
	}
	return up + to
}

// Followed returns nil when a file may have another path in what is packed: each place that names it is known, and can
// be rewritten. The error says which can't.
func (b *Build) Followed(f *File, to string) error {
	if v, ok := b.Vague(f); ok {
		return fmt.Errorf("%s:%d may name it as %q, of which not all is known", v.From.Path, v.Line, v.Target)
	}
	links := 0
	for _, l := range b.NamesOf(f) {
		links++
		if target := l.Named(to); target != l.Target {
			if _, ok := l.Rewritten(target); !ok {
				return fmt.Errorf("%s:%d names it as %q, which can't be rewritten with certainty", l.From.Path, l.Line, l.Target)
			}
		}
	}
	if links == 0 && f != b.Entry {
		return errors.New("nothing that can be read names it, so what loads it can't follow")
	}
	return nil
}

// NamesOf lists the links that name a file, in the order of the files they stand in. A link that names only a folder is none.
func (b *Build) NamesOf(f *File) []Link {
	var list []Link
	for _, l := range b.to[f] {
		if l := b.Links[l]; l.Path == f.Path || l.Result != Found {
			list = append(list, l)
		}
	}
	return list
}

// BasedAtRoot reports whether a page of the build says that its links start at the host's root.
func (f *File) BasedAtRoot() bool {
	if f.Page == nil || f.Page.Base == "" {
		return false
	}
	_, where := web.Resolve(f.Path, f.Page.Base, "x")
	return where == web.Absolute
}
