package web

import (
	"strings"

	"havvel/internal/export/link"
	"havvel/internal/export/script"
)

// ReadScript reads a script, and the pages, styles and data that it holds as texts.
//
// Between the length and the capacity of data it may write.
func ReadScript(data []byte) *script.Script {
	s := script.Read(data)
	lines := link.NewLines(data)
	for _, f := range s.Fragments {
		links, held := read(f)
		if held != nil {
			at, _, _ := placeOf(f.Pieces)
			s.Holds(held, func(int) int { return at })
		}
		for _, l := range links {
			if len(s.Links) < link.MaxLinks {
				l.Line, l.Column = lines.Place(l.Offset)
				s.Links = append(s.Links, l)
			}
		}
	}
	s.Fragments = nil
	return s
}

// read lists the links of a text that a script holds, each with its place in the script. The text is a script itself, or has one in it,
// unless held is nil.
func read(f script.Fragment) (list []link.Link, held *script.Script) {
	var b strings.Builder
	for _, p := range f.Pieces {
		b.WriteString(p.Text)
	}
	links, held := inside(f.As, []byte(b.String()))
	for _, l := range links {
		if !l.Whole() {
			continue
		}
		if l.Pieces = cut(f.Pieces, l.Offset, l.Offset+l.Len); len(l.Pieces) == 0 || l.Target == link.Star {
			continue
		}
		l.Offset, l.Len, l.Again = placeOf(l.Pieces)
		if len(l.Pieces) == 1 && l.Pieces[0].Written() && l.Pieces[0].Text == l.Target {
			l.Pieces = nil
		}
		switch {
		case f.As == "json" || f.As == "script":
			l.Certainty, l.Base = link.Possible, link.OfAny
		case f.As == "markup" || strings.Contains(l.Target, link.Star):
			l.Certainty = link.Possible
		default:
			l.Certainty = link.Likely
		}
		list = append(list, l)
	}
	return list, held
}

// inside lists the links of a text of some kind, with the script in it.
func inside(kind string, text []byte) (links []link.Link, held *script.Script) {
	switch kind {
	case "html", "markup":
		p := ReadPage(text)
		return p.Links, p.Inline
	case "css":
		return ReadStyle(text).Links, nil
	case "json":
		links, _ = ReadJSON(text) // most texts that begin like it are none
		return links, nil
	case "script":
		held = script.Read(text)
		return held.Links, held
	}
	return nil, nil
}

// cut is the part of a text from one place in it to another.
func cut(pieces []link.Piece, from, to int) []link.Piece {
	var out []link.Piece
	at := 0
	for _, p := range pieces {
		begin, end := max(from-at, 0), min(to-at, len(p.Text))
		at += len(p.Text)
		if begin >= end {
			continue
		}
		if p.Len == len(p.Text) && p.Text != link.Star {
			p.Offset, p.Len = p.Offset+begin, end-begin
		} else if begin > 0 || end < len(p.Text) { // with escapes, so its inside can't be found
			p.Kept = true
		}
		p.Text = p.Text[begin:end]
		out = append(out, p)
	}
	return out
}

func placeOf(pieces []link.Piece) (offset, length int, again []int) {
	for _, p := range pieces {
		if p.Len >= 0 {
			offset, length = p.Offset, p.Len
		}
	}
	return offset, length, nil
}
