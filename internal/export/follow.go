package export

import (
	"errors"
	"fmt"
	"net/url"
	"path"
	"slices"
	"strings"

	"havvel/internal/export/link"
	"havvel/internal/export/web"
)

// An Edit puts a text in the place of another in one file of the build.
type Edit struct {
	In *File
	link.Edit
}

// Rewritten returns the edits after which a link leads to the file that has that path in the export, and to no other for anything
// that runs the script. ok is false where that can't be written with certainty; the reason says why.
func (b *Build) Rewritten(l Link, to string) (edits []Edit, reason string, ok bool) {
	target := l.Named(to)
	if target == l.Target {
		return nil, "", true
	}
	list, ok := l.Link.Rewritten(target)
	if ok && l.differs(to) {
		if list, ok = b.fromModule(l, to); !ok {
			list, ok = b.fromPage(l, to)
		}
		reason = "pages in different folders run this script, so that no relative name fits them all"
	} else if !ok {
		reason = "it is put together from parts that can't be changed with certainty"
	}
	for _, e := range list {
		in := b.home(l, e.From)
		if in == nil {
			return nil, reason, false
		}
		edits = append(edits, Edit{in, e})
	}
	if !ok {
		return nil, reason, false
	}
	return edits, "", true
}

// home is the file in which a piece of a link stands: the link's own, or the module that it is imported from.
func (b *Build) home(l Link, from string) *File {
	if from == "" {
		return l.From
	}
	return b.leadFrom(l.From, link.Link{Target: from, Use: "script"}, l.From.Path, "").To
}

// differs reports whether the name of a file is another one in some of the folders that the link is relative to.
func (l Link) differs(to string) bool {
	name := relativePath(l.Folder, to)
	for _, other := range l.Others {
		if relativePath(other, to) != name {
			return true
		}
	}
	return false
}

// fromModule writes a name relative to the module that its beginning stands in, whatever page runs that.
func (b *Build) fromModule(l Link, to string) ([]link.Edit, bool) {
	home := l.From
	if len(l.Pieces) > 0 {
		home = b.home(l, l.Pieces[0].From)
	}
	if home == nil || home.Script == nil || !home.Script.Module {
		return nil, false
	}
	return l.headed(relativePath(path.Dir(home.Path), to), func(head string) string {
		return fmt.Sprintf("new URL(%q,import.meta.url).href", head)
	})
}

// RootName is the variable in which a page says where the build's root is, for scripts that pages in several folders run.
const RootName = "havvelRoot"

// fromPage writes a name behind the variable RootName.
func (b *Build) fromPage(l Link, to string) ([]link.Edit, bool) {
	if l.From.Script == nil || l.Import || slices.ContainsFunc(b.Runners(l.From), func(r Runner) bool { return r.File.Page == nil }) {
		return nil, false
	}
	return l.headed(strings.TrimPrefix(to, b.Base), func(head string) string {
		if head == "" {
			return RootName
		}
		return fmt.Sprintf("(%s+%q)", RootName, head)
	})
}

// headed puts an expression in the place of a link's first piece, so that the whole is name.
func (l Link) headed(name string, expression func(head string) string) ([]link.Edit, bool) {
	piece := link.Piece{Text: l.Target, Offset: l.Offset, Len: l.Len, Quote: l.Quote}
	rest := ""
	if len(l.Pieces) > 0 {
		piece = l.Pieces[0]
		rest = l.Target[len(piece.Text):]
	}
	head, fits := strings.CutSuffix(name, rest)
	if !piece.Written() || piece.Root || !fits || piece.Quote == 0 || len(l.Again) > 0 {
		return nil, false
	}
	if piece.Quote == '`' {
		return []link.Edit{{Offset: piece.Offset, Len: piece.Len, Text: "${" + expression(head) + "}", From: piece.From}}, true
	}
	return []link.Edit{{Offset: piece.Offset - 1, Len: piece.Len + 2, Text: expression(head), From: piece.From}}, true
}

// PageRoots lists the pages that must say in RootName where the build's root is, each with what it says.
func (b *Build) PageRoots() map[*File]string {
	list := map[*File]string{}
	for _, r := range b.relatives {
		for _, e := range r.edits {
			if !strings.Contains(e.Text, RootName) {
				continue
			}
			for _, runner := range b.Runners(e.In) {
				from, base := runner.base()
				list[runner.File] = relativePath(web.Folder(from, base), b.Base)
				if list[runner.File] == "" {
					list[runner.File] = "./"
				}
			}
		}
	}
	return list
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
	target := relativePath(l.Folder, to)
	put := len(l.Pieces) > 1 || l.From.Script != nil && strings.HasSuffix(target, "/") // something stands behind it, which needs a folder
	if !strings.HasPrefix(target, "../") && (strings.HasPrefix(l.Target, "./") || l.Import || target == "" || put) {
		target = "./" + target
	}
	return l.escaped(target) + l.Target[end:]
}

// escaped is a path as the link's place wants it: an address where the language says that it is one.
func (l Link) escaped(target string) string {
	if l.From.Page == nil && l.From.Style == nil && !strings.Contains(l.Target, "%") {
		return target
	}
	return strings.ReplaceAll((&url.URL{Path: target}).EscapedPath(), "%2A", link.Star)
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
			if _, _, ok := b.Rewritten(l, to); !ok {
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
