package export

import (
	"cmp"
	"fmt"
	"path"
	"slices"
	"strings"
)

// EntryName is the name under which a host finds the entry page.
const EntryName = "index.html"

// An Entry is a page that could be the entry page, with the reason for its rank.
type Entry struct {
	File   *File
	Reason string

	score int
}

// rankEntries lists the pages that could be the entry page: the one at the root under the usual name
// first, then by what they load. A page that loads nothing and has another name is none.
func (b *Build) rankEntries() []Entry {
	var list []Entry
	for _, f := range b.Parts() {
		if f.Page == nil {
			continue
		}
		e := Entry{File: f}
		name := path.Base(f.Path)
		depth := strings.Count(f.Path, "/")
		switch {
		case f.Path == EntryName:
			e.score, e.Reason = 1000, "at the root under the usual name"
		case name == EntryName && f.Page.Scripts > 0:
			e.score, e.Reason = 100, "has the usual name, in a folder, and runs scripts"
		case name == EntryName:
			e.score, e.Reason = 20, "has the usual name, in a folder"
		case f.Page.Scripts > 0:
			e.score, e.Reason = 50+min(f.Page.Scripts, 20), fmt.Sprintf("runs %s", scripts(f.Page.Scripts))
		default:
			continue
		}
		if f.Page.Canvas {
			e.score += 25
		}
		e.score -= 5 * depth
		list = append(list, e)
	}
	slices.SortStableFunc(list, func(x, y Entry) int {
		return cmp.Or(cmp.Compare(y.score, x.score), cmp.Compare(len(x.File.Path), len(y.File.Path)))
	})
	return list
}

func scripts(n int) string {
	if n == 1 {
		return "a script"
	}
	return fmt.Sprintf("%d scripts", n)
}
