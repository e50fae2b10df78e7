package script

import (
	"bytes"
	"regexp"
	"strings"

	"github.com/tdewolff/parse/v2/js"

	"havvel/internal/export/link"
)

// A name is an alternative as the name of a file.
type name struct {
	target  string
	list    Pieces
	base    link.Base
	written bool // at least one piece is
	vague   bool // begins with something that is not known
	root    bool // begins with the host's root, as location.origin says it
}

// pieces turns an alternative into a name.
func (r *reader) pieces(a alternative) (n name) {
	parts := a.texts()
	for i, p := range parts {
		if p.base == origin && i > 0 {
			parts = parts[i:]
			break
		}
	}
	parts = n.begin(parts)
	var b strings.Builder
	for _, p := range n.list {
		b.WriteString(p.Text)
	}
	for _, p := range parts {
		piece := n.piece(p)
		b.WriteString(piece.Text)
		n.list = append(n.list, piece)
	}
	n.target = b.String()
	return n
}

// begin takes from the first part what the name is relative to, and returns the parts that are left.
func (n *name) begin(parts []part) []part {
	first := parts[0]
	if first.base == hereRoot || first.base == hereFolder || first.base == here {
		n.base = link.OfFile
	}
	rest := parts[1:]
	switch first.base {
	case none:
		n.vague = !first.known
		return parts
	case origin:
		n.base, n.root = link.OfOrigin, true
		n.list = append(n.list, link.Piece{Offset: first.at, Len: first.length, Root: true})
	case pageFolder, hereFolder:
		if len(rest) > 0 && strings.HasPrefix(rest[0].text, "/") {
			n.list = append(n.list, link.Piece{Text: ".", Len: -1})
		}
	case page, here: // the address itself, with something behind it
		if len(rest) > 0 && !strings.HasPrefix(rest[0].text, "?") && !strings.HasPrefix(rest[0].text, "#") {
			n.list, n.vague = append(n.list, link.Piece{Text: link.Star, Len: -1}), true
		}
	}
	return rest
}

// piece is a part as it stands in a name.
func (n *name) piece(p part) link.Piece {
	piece := link.Piece{Text: p.text, Offset: p.at, Len: p.length, Quote: p.quote, From: p.from, Kept: p.fixed}
	if !p.known || p.base != none {
		piece = link.Piece{Text: link.Star, Len: -1}
	}
	if piece.Len >= 0 && piece.Text != "" {
		n.written = true
	}
	if p.from != "" {
		piece.Len, piece.From, n.written = -1, p.from, true
	}
	return piece
}

// load works out what reaches a sink.
func (r *reader) load(l load) {
	if l.callee != nil && !r.isGlobal(l.callee, l.sink.name) {
		return
	}
	alternatives := r.values.spread(r.values.value(l.value, nil))
	if l.sink == address && r.taken(alternatives) {
		return
	}
	if l.sink.as != "" {
		r.fragments(l.sink.as, alternatives)
		return
	}
	use := l.sink.use
	sure := l.sink.sure
	if use == "element" {
		use, sure = r.element(l)
	}
	for _, a := range r.values.asText(alternatives) {
		r.note(l.sink, use, sure, a, len(alternatives) == 1)
	}
}

// taken reports whether the texts of a value reach another sink already.
func (r *reader) taken(alternatives value) bool {
	for _, a := range alternatives {
		for _, p := range a.parts {
			if p.length > 0 && p.base == none && !r.used[p.at] {
				return false
			}
		}
	}
	return true
}

// isGlobal reports whether what is called is the page's own function of that name.
func (r *reader) isGlobal(callee js.IExpr, name string) bool {
	name = strings.TrimSuffix(name, "=")
	for _, a := range r.values.value(callee, nil) {
		if a.what == isGlobal && a.name == name {
			return true
		}
	}
	return false
}

// element says what the src or href of an object is for.
func (r *reader) element(l load) (use string, sure link.Certainty) {
	property := strings.TrimSuffix(l.sink.name, "=")
	for _, a := range r.values.value(l.on, nil) {
		switch {
		case a.what == isElement && elements[a.name] != "":
			return elements[a.name], l.sink.sure
		case a.what == isGlobal && strings.HasSuffix(a.name, "location"):
			return "page", l.sink.sure
		}
	}
	if property == "href" {
		return "data", link.Possible
	}
	return "data", l.sink.sure
}

// note keeps a name that reaches a sink.
func (r *reader) note(s *sink, use string, sure link.Certainty, a alternative, alone bool) {
	n := r.pieces(a)
	if a.what != isText || !n.written || !namesFile(n.target) {
		return
	}
	base := n.base
	if base == link.OfPage {
		base = s.base
	}
	if n.vague {
		base = link.OfAny
	}
	if s == importing && isBare(n.target) {
		r.bare(n, alone && !a.weak)
		return
	}
	r.add(link.Link{
		Target: n.target, Use: use, Certainty: certainty(s, sure, n, a.weak, alone), Base: base,
		Worker: s.worker, Lookup: a.entry, Default: a.weak, Import: s == importing,
	}, n)
}

// certainty is how sure it is that a name that reaches a sink is one of a file.
func certainty(s *sink, sure link.Certainty, n name, weak, alone bool) link.Certainty {
	switch {
	case weak || n.vague || strings.Contains(n.target, link.Star) || keptFolder(s, n.target) || s != importing && !pathLike(n.target):
		return link.Possible
	case s == importing && !alone:
		return link.Likely
	}
	return sure
}

// namesFile reports whether a text can name a file, or an address.
func namesFile(text string) bool {
	if text == "" || text == link.Star || len(text) > link.MaxTarget || strings.ContainsAny(text, "\n\r<>") {
		return false
	}
	for _, other := range []string{"#", "data:", "blob:", "javascript:"} {
		if strings.HasPrefix(text, other) {
			return false
		}
	}
	return true
}

// pathLike reports whether a text looks like a path or an address.
func pathLike(text string) bool {
	return link.LooksLikePath(text) || link.IsFolder(strings.TrimSuffix(text, link.Star)) || link.IsAddress(text) ||
		strings.HasSuffix(text, "/")
}

// keptFolder reports whether a name is that of a folder: a list of files to keep holds pages, by their folders.
func keptFolder(s *sink, text string) bool {
	return strings.HasSuffix(text, "/") && !link.IsAddress(text) && s.use != "page" && s.arg != -2
}

func (r *reader) bare(n name, sure bool) {
	if !sure || len(r.script.Bare) >= link.MaxLinks || len(n.list) != 1 {
		return
	}
	l := link.Link{Target: n.target, Use: "script", Base: link.OfFile, Import: true, Certainty: link.Likely}
	l.Offset, l.Len = n.list[0].Offset, n.list[0].Len
	l.Line, l.Column = r.lines.Place(l.Offset)
	r.script.Bare = append(r.script.Bare, l)
}

// add notes a link, once.
func (r *reader) add(l link.Link, n name) {
	for _, p := range n.list {
		if p.Len >= 0 && !p.Root && (p.Text != "" || len(n.list) == 1) {
			l.Offset, l.Len = p.Offset, p.Len // the last one is nearest to where the name is put together
			r.used[p.Offset] = true
			l.Guessed = l.Guessed || r.guessed[p.Offset]
		}
	}
	if len(n.list) != 1 || n.list[0].Len < 0 || n.list[0].Kept {
		l.Pieces = n.list
	} else {
		l.Quote = n.list[0].Quote
	}
	k := seen{l.Target, l.Use, l.Offset, l.Base}
	if i, ok := r.seen[k]; ok {
		if l.Certainty < r.script.Links[i].Certainty {
			r.script.Links[i].Certainty = l.Certainty
		}
		r.script.Links[i].Worker = r.script.Links[i].Worker || l.Worker
		return
	}
	if len(r.script.Links) >= link.MaxLinks {
		return
	}
	r.seen[k] = len(r.script.Links)
	l.Line, l.Column = r.lines.Place(l.Offset)
	r.script.Links = append(r.script.Links, l)
}

// text looks at a text that reaches no sink that is known: it may still be the name of a file.
func (r *reader) text(e js.IExpr) {
	if l, ok := e.(*js.LiteralExpr); ok {
		r.literal(l)
		return
	}
	for _, a := range r.values.value(e, nil) {
		n := r.pieces(a)
		if a.what != isText || !n.written {
			continue
		}
		if markup(n.target) {
			r.fragments("markup", value{a})
		}
		if len(n.target) > link.MaxTarget || n.root || r.allUsed(n) {
			continue
		}
		if l, ok := r.possible(n.target); ok {
			if n.base != link.OfPage {
				l.Base = n.base
			}
			if a.weak || !r.repeated(&l, n) {
				r.add(l, n)
			}
		}
	}
}

// allUsed reports whether all that is written of a name stands in links already.
func (r *reader) allUsed(n name) bool {
	for _, p := range n.list {
		if p.Len >= 0 && p.Text != "" && !r.used[p.Offset] {
			return false
		}
	}
	return true
}

// literal looks at a text that stands alone.
func (r *reader) literal(e *js.LiteralExpr) {
	inner := e.Data[1 : len(e.Data)-1]
	if len(inner) < 3 {
		return
	}
	at := r.offset(inner)
	if inner[0] == '[' || inner[0] == '{' {
		if len(inner) > 12 && !r.used[at] && len(r.script.Fragments) < maxFragments {
			whole := Pieces{{Text: unescaped(inner), Offset: at, Len: len(inner)}}
			r.script.Fragments = append(r.script.Fragments, Fragment{"json", whole})
		}
		return
	}
	if r.used[at] {
		return
	}
	if len(inner) < maxMarkup && bytes.IndexByte(inner, '<') >= 0 && markup(unescaped(inner)) {
		r.fragments("markup", r.values.literal(e))
		return
	}
	if len(inner) > link.MaxTarget {
		return
	}
	target := unescaped(inner)
	l, ok := r.possible(target)
	if !ok {
		return
	}
	n := name{target: target, written: true, list: Pieces{{Text: target, Offset: at, Len: len(inner), Quote: e.Data[0]}}}
	if !r.repeated(&l, n) {
		r.add(l, n)
	}
}

// maxMarkup is the longest text that is looked at as a piece of a page, in bytes.
const maxMarkup = 1 << 20

// markup reports whether a text is a piece of a page that names files.
func markup(text string) bool {
	text = strings.TrimLeft(text, " \t\r\n")
	return strings.HasPrefix(text, "<") &&
		(strings.Contains(text, "src=") || strings.Contains(text, "href=") || strings.Contains(text, "url("))
}

// repeated notes a text that stood elsewhere before as one more place of the same link.
func (r *reader) repeated(l *link.Link, n name) bool {
	k := seen{target: l.Target, use: "possible", offset: -1}
	i, ok := r.seen[k]
	same := ok && i < len(r.script.Links) && r.script.Links[i].Target == l.Target && r.script.Links[i].Whole()
	if same && len(n.list) == 1 && n.list[0].Len == r.script.Links[i].Len {
		l.Offset, l.Len = n.list[0].Offset, n.list[0].Len
		r.script.Links[i].Repeat(*l)
		return true
	}
	if !ok {
		r.seen[k] = len(r.script.Links)
	}
	return false
}

// measure matches a number with its unit, such as 1.5px.
var measure = regexp.MustCompile(`^[0-9.]+[a-z%]*$`)

func (r *reader) possible(target string) (link.Link, bool) {
	pathLike := link.LooksLikePath(target) || target != link.Star && link.IsFolder(strings.TrimSuffix(target, link.Star))
	l := link.Link{Target: target, Use: "data", Certainty: link.Possible, Base: link.OfAny}
	return l, pathLike && !measure.MatchString(target) && !link.IsAddress(target)
}

// maxFragments bounds what is read of one script.
const maxFragments = 2000

// fragments keeps texts that are pages, styles or scripts themselves.
func (r *reader) fragments(as string, alternatives value) {
	for _, a := range r.values.asText(alternatives) {
		n := r.pieces(a)
		if !n.written || len(r.script.Fragments) >= maxFragments {
			continue
		}
		if !strings.Contains(n.target, map[string]string{"css": "url(", "html": "<", "markup": "<", "script": "("}[as]) {
			continue
		}
		for _, p := range n.list {
			if p.Len >= 0 {
				r.used[p.Offset] = true
			}
		}
		r.script.Fragments = append(r.script.Fragments, Fragment{as, n.list})
	}
}
