package export

import (
	"cmp"
	"crypto/sha256"
	"path"
	"slices"
	"strings"

	"havvel/internal/export/encoding"
	"havvel/internal/export/link"
	"havvel/internal/export/web"
)

// A Link is one place that names a file or address, and where it leads.
type Link struct {
	link.Link
	From   *File
	Path   string   // in the export, when it leads inside
	Folder string   // in the export, that the target is relative to; "." is the root
	Others []string // more such folders, where pages in several of them run the script
	To     *File    // nil when it leads to no file, or to several
	Result Result

	n int // its place in Links
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

// resolve finds out where all links lead. A text that could be a file's name and is none is dropped.
func (b *Build) resolve() {
	b.dirs = b.folders()
	patterns := map[string]bool{}
	b.Links, b.linked, b.from, b.vague = nil, map[*File]bool{}, map[*File][]Link{}, map[*File]*Link{}
	b.to = map[*File][]int{}
	b.place = b.expected()
	b.importTexts()
	b.follow()
	for _, f := range b.Parts() {
		for _, l := range f.links {
			x := b.lead(f, l)
			if x.Certainty == link.Possible && b.drops(x, patterns) {
				continue
			}
			if x.Result == Missing && x.Certainty == link.Likely && l.Base == link.OfFile && !l.Import {
				// What a tool wrote for when nobody names the file, as the bundler does that renamed it.
				if twin := b.hashed(x.Path); twin != nil {
					b.linked[twin] = true
					continue
				}
			}
			b.keep(x)
		}
	}
	b.sight()
	b.grade()
	b.makeRelative()
}

func (b *Build) keep(x Link) {
	x.n = len(b.Links)
	if x.To != nil {
		b.linked[x.To] = true
		b.to[x.To] = append(b.to[x.To], len(b.Links))
	}
	b.from[x.From] = append(b.from[x.From], x)
	b.Links = append(b.Links, x)
}

// lead follows one link, for everything that runs the script that it stands in.
func (b *Build) lead(f *File, l link.Link) Link {
	if f.Page != nil {
		return b.leadOfPage(f, l)
	}
	runners := []Runner{{f}}
	if f.Script != nil || l.Base == link.OfAny {
		runners = b.Runners(f)
	}
	first := b.leadFor(f, l, runners[0])
	for _, r := range runners[1:] {
		x := b.leadFor(f, l, r)
		if x.To != nil && first.To == nil && l.Certainty == link.Possible {
			x.Others, first = append(first.Others, first.Folder), x
			continue
		}
		if x.To != nil {
			b.linked[x.To] = true
		}
		if x.Folder != first.Folder && !slices.Contains(first.Others, x.Folder) {
			first.Others = append(first.Others, x.Folder)
		}
	}
	return first
}

// leadOfPage follows a link of a page, or of a part of one that a script puts into the entry page.
func (b *Build) leadOfPage(f *File, l link.Link) Link {
	own := b.leadFrom(f, l, f.Path, f.Page.Base)
	if e := b.Entry; own.To == nil && f.Page.Fragment && e != nil && e != f {
		if x := b.leadFrom(f, l, e.Path, e.Page.Base); x.To != nil {
			return x
		}
	}
	return own
}

// leadFor follows a link of a script that r runs. Where it is not known what a name is relative to, it is tried beside the page,
// beside the file that it stands in, and at the root.
func (b *Build) leadFor(f *File, l link.Link, r Runner) Link {
	from, base := r.base()
	switch {
	case f.Style != nil || l.Base == link.OfFile:
		return b.leadFrom(f, l, f.Path, "")
	case f.Page != nil:
		return b.leadFrom(f, l, f.Path, f.Page.Base)
	case l.Base != link.OfAny:
		return b.leadFrom(f, l, from, base)
	}
	var first Link
	for i, at := range b.tried(f, from, base) {
		x := b.leadFrom(f, l, at.from, at.base)
		if x.To != nil && x.Result != OtherCase {
			return x
		}
		if i == 0 || first.To == nil && (x.To != nil || !b.dirs[path.Dir(first.Path)] && b.dirs[path.Dir(x.Path)]) {
			first = x // where it leads, or at least to a folder that is there
		}
	}
	return first
}

// A place is what a name may be relative to.
type place struct{ from, base string }

// tried are the places that a name is tried from.
func (b *Build) tried(f *File, from, base string) []place {
	places := []place{{from, base}, {f.Path, ""}, {b.Base + "x", ""}}
	if f.Script != nil {
		return places
	}
	places[0], places[1] = places[1], places[0] // data: most often relative to itself
	for _, p := range b.pages() {
		if len(places) < 8 && path.Dir(p.Path) != path.Dir(from) {
			places = append(places, place{p.Path, p.Page.Base})
		}
	}
	return places
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
		if l.Use != "script" && l.Use != "style" || l.Certainty != link.Certain || where != web.Absolute {
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

func (b *Build) leadFrom(f *File, l link.Link, from, base string) Link {
	x := Link{Link: l, From: f, Folder: web.Folder(from, base)}
	if l.Base == link.OfOrigin && !strings.HasPrefix(l.Target, "/") {
		x.Link.Target = "/" + l.Target
	}
	target, where := web.Resolve(from, base, x.Link.Target)
	switch where {
	case web.Nowhere:
		x.Result = Inline
	case web.Outside:
		x.Result = OtherOrigin
		if t := strings.ToLower(l.Target); strings.HasPrefix(t, "http:") || strings.HasPrefix(t, "ws:") {
			x.Result = Insecure
		}
	case web.Absolute:
		b.leadAbsolute(&x, target)
	default:
		b.leadInside(&x, target)
	}
	return x
}

// leadAbsolute resolves a link that begins at the root of its host.
func (b *Build) leadAbsolute(x *Link, target string) {
	l, f := x.Link, x.From
	inside := strings.TrimPrefix(target, b.place)
	x.Result, x.Path, x.Folder = Absolute, target, path.Clean(strings.TrimPrefix(x.Folder+"/", b.place))
	x.To = b.byPath[b.Base+inside]
	if opensPage(l) || inside == "" && l.Certainty == link.Likely {
		x.To = cmp.Or(x.To, b.byPath[path.Join(b.Base+inside, EntryName)])
	}
	if x.To == nil && l.Lookup && !b.dirs[path.Dir(b.Base+inside)] {
		x.Link.Certainty = link.Possible
	}
	if f.Kind == KindText && l.Certainty == link.Possible && b.Entry != nil && path.Dir(f.Path) != path.Dir(b.Entry.Path) {
		// Relative to what, the script decides that reads it: the data or the page.
		x.Pieces = []link.Piece{{Text: l.Target, Offset: l.Offset, Len: l.Len, Kept: true}}
	}
}

// leadInside resolves a link by its path in the build.
func (b *Build) leadInside(x *Link, target string) {
	l := x.Link
	x.Path = target
	slash := strings.HasSuffix(l.Target, "/")
	folder := opensPage(l) || slash && l.Certainty == link.Likely && !l.Mapped
	page := b.byPath[path.Join(target, EntryName)]
	switch {
	case folder && b.byPath[target] == nil && (target == "." || page != nil):
		x.Result, x.To = Found, page // a folder, which a host answers with its page
	case l.Mapped && slash && b.dirs[target]:
		x.Result = Found
	default:
		x.To, x.Result = b.find(target)
	}
}

func opensPage(l link.Link) bool { return l.Use == "page" || l.Use == "frame" }

// find looks for a file by the name that a link gives it.
func (b *Build) find(target string) (*File, Result) {
	if f := b.byPath[target]; f != nil {
		return f, Found
	}
	for _, format := range []string{encoding.Gzip, encoding.Brotli, encoding.Zstd} {
		if f := b.byPath[target+encoding.Ending(format)]; f != nil && f.Encoding != "" {
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
	return strings.ContainsAny(part[:1], "-._") && strings.ContainsAny(part, "0123456789") &&
		strings.Trim(part[1:], letters+"0123456789") == ""
}

// Modules lists the scripts that the entry page is sure to run: those that it names, and what these import.
func (b *Build) Modules() []*File {
	var list []*File
	for _, f := range b.Parts() {
		if f.Script != nil && b.reach[f] == AtStart {
			list = append(list, f)
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

// PlainPath is the file's path without the ending of its compression.
func (f *File) PlainPath() string {
	if f.Encoding == "" {
		return f.Path
	}
	plain, _ := encoding.Named(f.Path)
	return plain
}

// Content is the hash of what the file holds, decoded.
func (f *File) Content() [sha256.Size]byte {
	if f.Encoding != "" {
		return f.Inner
	}
	return f.SHA256
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
