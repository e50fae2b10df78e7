package export

import (
	"cmp"
	"fmt"
	"math/bits"
	"path"
	"slices"
	"strings"

	"havvel/internal/settings"
)

// EntryName is the name under which a host finds the entry page.
const EntryName = "index.html"

// An Entry is a page that could be the entry page, with the reason for its rank.
type Entry struct {
	File   *File
	Reason string

	score int
}

// rankEntries lists the pages that could be the entry page: the one at the root under the usual name first, then by
// what they load. A page that loads nothing and has another name is none.
func (b *Build) rankEntries() []Entry {
	var list []Entry
	for _, f := range b.Parts() {
		if f.Page == nil {
			continue
		}
		e := Entry{File: f}
		loads := b.loads(f)
		usual := path.Base(f.Path) == EntryName
		switch {
		case f.Path == EntryName:
			e.score, e.Reason = 1000, "at the root under the usual name"
		case usual && f.Page.Scripts > 0:
			e.score, e.Reason = 60, "has the usual name, in a folder, and "+what(f.Page.Scripts, loads)
		case usual:
			e.score, e.Reason = 20, "has the usual name, in a folder"
		case f.Page.Scripts > 0:
			e.score, e.Reason = 40, what(f.Page.Scripts, loads)
		default:
			continue
		}
		if f.Page.Canvas {
			e.score += 15
		}
		e.score += 3*bits.Len64(uint64(loads)) + min(f.Page.Scripts, 10) - 5*strings.Count(f.Path, "/")
		list = append(list, e)
	}
	slices.SortStableFunc(list, func(x, y Entry) int {
		return cmp.Or(cmp.Compare(y.score, x.score), cmp.Compare(len(x.File.Path), len(y.File.Path)))
	})
	return list
}

func what(scripts int, loads int64) string {
	words := fmt.Sprintf("runs %d scripts", scripts)
	if scripts == 1 {
		words = "runs a script"
	}
	if loads > 0 {
		words += " and loads " + settings.Size(loads).String()
	}
	return words
}

// loads adds up the files that a page names, and those that its scripts name.
func (b *Build) loads(page *File) int64 {
	var sum int64
	seen := map[*File]bool{page: true}
	follow := []*File{page}
	for len(follow) > 0 {
		f := follow[0]
		follow = follow[1:]
		base := ""
		if f.Page != nil {
			base = f.Page.Base
		}
		for _, l := range f.links {
			to := b.leadFrom(f, l, page.Path, base).To
			if to == nil && f != page {
				to = b.leadFrom(f, l, f.Path, "").To
			}
			if to == nil || seen[to] || l.Use == "page" || to.Page != nil {
				continue
			}
			seen[to] = true
			sum += to.Bytes
			if to.Script != nil {
				follow = append(follow, to)
			}
		}
	}
	return sum
}

// Enter makes a page of the build its entry page, whatever was found. The path is that inside the export.
func (b *Build) Enter(path string) error {
	f := b.byPath[strings.TrimPrefix(path, "./")]
	if f == nil || f.Page == nil {
		var names []string
		for _, f := range b.Parts() {
			if f.Page != nil {
				names = append(names, f.Path)
			}
		}
		next := "it has no HTML page at all"
		if len(names) > 0 {
			next = "its pages are: " + strings.Join(names[:min(len(names), 10)], ", ")
		}
		return &Unreadable{Path: b.Path, Reason: fmt.Sprintf("there is no HTML page %s in it", path), Next: next}
	}
	b.Entry = f
	b.resolve()
	return nil
}
