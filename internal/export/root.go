package export

import (
	"path"
	"strings"

	"havvel/internal/export/link"
)

// A relative is how a link from the host's root becomes one that works in any folder.
type relative struct {
	to     string // path in the export, with stars for what is not known
	edits  []Edit
	reason string // why it can't; "" when it can
}

// A spot is one place of the build.
type spot struct {
	in *File
	at int
}

// FromRoot says how a link that starts at the host's root becomes relative. found is false for a link that doesn't, or that leads to
// nothing in the build; reason says why it can't become relative, or is "".
func (b *Build) FromRoot(l Link) (edits []Edit, reason string, found bool) {
	r, found := b.relatives[l.n]
	return r.edits, r.reason, found
}

// makeRelative works out how all links from the host's root become relative. A text that several links begin with must become the
// same for all of them; in a module it can become an address that is right for any.
func (b *Build) makeRelative() {
	b.relatives = map[int]relative{}
	texts := map[spot]string{}
	again := map[spot]bool{} // places that links want to be different things
	behind := b.behind()
	for i, l := range b.Links {
		to, ok := b.AtRoot(l)
		if !ok || l.From.BasedAtRoot() && !strings.HasPrefix(l.Target, "/") {
			continue
		}
		r := relative{to: to}
		r.edits, r.reason, _ = b.Rewritten(l, to)
		for _, e := range r.edits {
			at := spot{e.In, e.Offset}
			if text, ok := texts[at]; ok && text != e.Text || behind[at] {
				again[at] = true
			}
			texts[at] = e.Text
		}
		b.relatives[i] = r
	}
	if len(again) == 0 {
		return
	}
	for i, r := range b.relatives {
		for _, e := range r.edits {
			if again[spot{e.In, e.Offset}] {
				b.relatives[i] = b.anywhere(b.Links[i], r, behind[spot{e.In, e.Offset}])
				break
			}
		}
	}
}

// anywhere is a link whose text other links use for something else, as an address that is right wherever it is used.
func (b *Build) anywhere(l Link, r relative, behind bool) relative {
	r.edits, r.reason = nil, "other names use the same text for something else"
	if behind {
		r.reason = "the text that it begins with also stands in the middle of other names"
		return r
	}
	if list, ok := b.fromModule(l, r.to); ok {
		r.reason = ""
		for _, e := range list {
			r.edits = append(r.edits, Edit{b.home(l, e.From), e})
		}
	}
	return r
}

// behind lists the places of texts that are put behind others.
func (b *Build) behind() map[spot]bool {
	list := map[spot]bool{}
	for _, f := range b.Parts() {
		for _, l := range f.links {
			before := ""
			for _, p := range l.Pieces {
				if p.Len >= 0 && before != "" && before != "." {
					list[spot{f, p.Offset}] = true
				}
				before += p.Text
			}
		}
	}
	return list
}

// relativePath is the path from a folder to a file; both are paths in the export.
func relativePath(folder, to string) string {
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

// AtRoot is the path in the export of what a link from the host's root means, with stars for what is not known of it. ok is false
// where the build has no such file or folder.
func (b *Build) AtRoot(l Link) (to string, ok bool) {
	switch {
	case l.Result != Absolute:
		return "", false
	case l.To != nil && l.To.Path == b.Base+strings.TrimPrefix(l.Path, b.place):
		return l.To.Path, true
	case l.To != nil: // the folder of a page
		return strings.TrimSuffix(l.To.Path, EntryName), true
	case strings.Contains(l.Target, link.Star) || strings.HasSuffix(l.Target, "/"):
		inside := strings.TrimPrefix(l.Path+"/", b.place)
		if !strings.HasSuffix(l.Target, "/") {
			inside = strings.TrimSuffix(inside, "/")
		}
		if inside == "/" {
			inside = ""
		}
		return b.Base + inside, b.rooted(l)
	}
	return "", false
}
