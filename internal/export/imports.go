package export

import (
	"slices"
	"strings"

	"havvel/internal/export/link"
	"havvel/internal/export/script"
)

// importTexts puts the texts that scripts import from others in the places of their names.
func (b *Build) importTexts() {
	for _, f := range b.Parts() {
		if f.Script == nil {
			continue
		}
		for i := 0; i < len(f.links); i++ {
			if n := slices.IndexFunc(f.links[i].Pieces, func(p link.Piece) bool { return p.From != "" && p.Len < 0 }); n >= 0 {
				f.links = slices.Insert(slices.Clone(f.links), i+1, b.imports(f, f.links[i], n)...)
				f.links = slices.Delete(f.links, i, i+1)
				i--
			}
		}
	}
}

// imports are the links that one is whose n-th piece is imported.
func (b *Build) imports(f *File, l link.Link, n int) []link.Link {
	p := l.Pieces[n]
	texts := []script.Pieces{{{Text: link.Star, Len: -1}}}
	to := b.leadFrom(f, link.Link{Target: p.From, Use: "script"}, f.Path, "").To
	if to != nil && to.Script != nil && len(to.Script.Exports[p.Text]) > 0 {
		texts = to.Script.Exports[p.Text]
	}
	var list []link.Link
	for _, t := range texts[:min(len(texts), 20)] {
		x := l
		x.Pieces = slices.Clone(l.Pieces[:n])
		for _, q := range t {
			if q.From != "" { // which that module imports itself
				q = link.Piece{Text: link.Star, Len: -1}
			}
			if q.Len >= 0 {
				q.From = p.From
			}
			x.Pieces = append(x.Pieces, q)
		}
		x.Pieces = append(x.Pieces, l.Pieces[n+1:]...)
		x.Target = ""
		for _, q := range x.Pieces {
			x.Target += q.Text
		}
		if x.Target == link.Star || !link.LooksLikePath(x.Target) && !strings.Contains(x.Target, "/") {
			continue
		}
		if strings.Contains(x.Target, link.Star) || strings.HasSuffix(x.Target, "/") {
			x.Certainty = link.Possible
		}
		if strings.HasPrefix(x.Target, link.Star) {
			x.Base = link.OfAny
		}
		list = append(list, x)
	}
	return list
}
