package export

import (
	"path"
	"strings"

	"havvel/internal/export/link"
)

// A Sight is a request that a browser made in a trial of the same build.
type Sight struct {
	File         string // that asked: inside the export, "" when that is not known
	Line, Column int    // from 1; 0 when they are not known
	Path         string // that was asked for: inside the build, or from the host's root with a slash before it
	Use          string // as in link.Link
	Failed       bool   // there was no such file
	Sent         string // the Content-Encoding with which it came, or ""
	Worked       bool   // it came, and the game started
}

// See takes what a browser asked for as links that are certain.
func (b *Build) See(list []Sight) {
	if len(list) == 0 && len(b.sights) == 0 {
		return
	}
	b.sights = list
	b.resolve()
}

// sight notes what was seen: of a link that is known, that it was; and as a new link, what no reading of the files had shown.
func (b *Build) sight() {
	for _, s := range b.sights {
		from := b.byPath[b.Base+s.File]
		if from == nil || s.File == "" {
			from = b.Entry
		}
		if from == nil {
			continue
		}
		x := Link{From: from, Folder: "."}
		x.Link = link.Link{Target: s.Path, Use: s.Use, Line: s.Line, Column: s.Column, Certainty: link.Seen}
		x.Pieces = []link.Piece{{Text: s.Path, Len: -1}}
		if b.sighted(&x, s) {
			b.keep(x)
		}
	}
}

// sighted resolves a link that was seen. It is false where that is nothing new.
func (b *Build) sighted(x *Link, s Sight) bool {
	inside, root := strings.CutPrefix(s.Path, "/")
	if root {
		inside = strings.TrimPrefix(inside, b.place)
	}
	x.Path = b.Base + inside
	if x.To = b.byPath[x.Path]; x.To == nil {
		x.To = b.byPath[path.Join(x.Path, EntryName)]
	}
	switch {
	case x.To == x.From || x.To != nil && b.noted(*x):
		return false
	case x.To != nil && root:
		x.Result, x.Path = Absolute, strings.TrimPrefix(s.Path, "/")
	case x.To != nil:
		x.Result = Found
	case s.Failed && !root:
		x.Result = Missing
		return !b.noted(*x)
	default:
		return false // it was there then, or is not the build's
	}
	return true
}

// noted says of links that lead to the same place that they were seen; it is false when there is none.
func (b *Build) noted(x Link) bool {
	found := false
	for i, l := range b.Links {
		same := x.To != nil && l.To == x.To || x.To == nil && l.To == nil && l.Result == Missing && l.Path == x.Path
		if !same || x.Result == Absolute && l.Result != Absolute {
			continue
		}
		found = true
		if l.From == x.From || l.Certainty == link.Possible {
			b.Links[i].Certainty = link.Seen
		}
	}
	return found
}
