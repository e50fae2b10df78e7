package script

import (
	"strings"

	"github.com/tdewolff/parse/v2/js"

	"havvel/internal/export/link"
)

// A value is what an expression may be: one of its alternatives. A value without any is not known.
type value []alternative

// What an alternative is.
type what uint8

const (
	isText     what = iota
	isFunction      // node is it
	isObject        // node is its literal, or its class
	isList          // node is its literal, or items its entries
	isElement       // of a page; name is its tag
	isGlobal        // name is its dotted name
	isModule        // all that name exports
	isLoaded        // the bytes of what is loaded from an address, or what gives them
	isDecoder       // a stream that unpacks the format called name
)

type alternative struct {
	what  what
	parts []part
	node  js.INode
	items []value
	name  string
	frame *frame
	weak  bool   // a variable or property may hold something else when it is used
	entry bool   // found in a table by a key that is not known
	when  []cond // holds only then

	address *alternative // of what is loaded
}

// A part of a text. Its base is what the text begins at, as the page's address.
type part struct {
	text   string
	at     int // in the source
	length int // -1: not written down
	quote  byte
	known  bool
	base   base
	holds  *js.Var // what holds the text, when that is not known
	from   string  // the module that text is imported from by that name
	fixed  bool    // it stands there in another form, so it can't be changed
}

// A base is an address that a text begins with.
type base uint8

const (
	none       base = iota
	page            // the page that runs the script, or the worker's script
	here            // the script itself
	origin          // the host's root, without a slash
	pageFolder      // the folder of the page, with or without a slash at its end
	hereFolder
	pageRoot // the host's root, as a path from it is resolved against the page's address
	hereRoot // likewise, against the script's
)

// A cond says when an alternative holds: the variable that a table is looked up by has that key, or none of the table's; or a function is
// called in one of its calls, of which the key is the number.
type cond struct {
	key    any // a *js.Var or *function
	is     string
	noneOf *js.ObjectExpr
}

// maxAlternatives of one value. Tables of the parts of large games have hundreds of entries.
const maxAlternatives = 2000

// maxParts of one text. What has more is no name.
const maxParts = 40

// maxUnion is how many are kept of what is no table.
const maxUnion = 120

func known(s string) value {
	return value{{parts: []part{{text: s, length: -1, known: true}}}}
}

func based(b base) value {
	return value{{parts: []part{{length: -1, known: true, base: b}}}}
}

var unknownPart = part{text: link.Star, length: -1}

// texts are the parts of an alternative that is a text; anything else is a part that is not known.
func (a alternative) texts() []part {
	if a.what != isText || len(a.parts) == 0 {
		return []part{unknownPart}
	}
	return a.parts
}

// plain is the text of an alternative that is wholly known, wherever it comes from.
func (a alternative) plain() (string, bool) {
	if a.what != isText || len(a.parts) == 0 {
		return "", false
	}
	if len(a.parts) == 1 {
		p := a.parts[0]
		return p.text, p.known && p.base == none && p.from == ""
	}
	var b strings.Builder
	for _, p := range a.parts {
		if !p.known || p.base != none || p.from != "" {
			return "", false
		}
		b.WriteString(p.text)
	}
	return b.String(), true
}

// imported is what stands behind something that is imported: a property, or what a call of it returns.
func (a alternative) imported(behind string) (alternative, bool) {
	if a.what != isText || len(a.parts) != 1 || a.parts[0].from == "" || len(a.parts[0].text) > 100 {
		return a, false
	}
	p := a.parts[0]
	p.text += behind
	a.parts = []part{p}
	return a, true
}

// only is the text that a value has in all cases.
func (v value) only() (string, bool) {
	if len(v) != 1 || v[0].weak {
		return "", false
	}
	return v[0].plain()
}

// concat puts two values one behind the other.
func concat(x, y value) value {
	if len(x) == 0 {
		x = value{{parts: []part{unknownPart}}}
	}
	if len(y) == 0 {
		y = value{{parts: []part{unknownPart}}}
	}
	if len(x)*len(y) > 4*maxAlternatives {
		if len(x) > len(y) {
			x = value{{parts: []part{unknownPart}}}
		} else {
			y = value{{parts: []part{unknownPart}}}
		}
	}
	out := make(value, 0, min(len(x)*len(y), maxAlternatives))
	for _, a := range x {
		for _, b := range y {
			when, ok := both(a.when, b.when)
			if !ok || len(out) >= maxAlternatives {
				continue
			}
			out = append(out, joined(a, b, when))
		}
	}
	return out
}

func joined(a, b alternative, when []cond) alternative {
	p, q := a.texts(), b.texts()
	if len(p)+len(q) > maxParts {
		p, q = p[:min(len(p), maxParts/2)], []part{unknownPart}
	}
	c := alternative{weak: a.weak || b.weak, entry: a.entry || b.entry, when: when, parts: make([]part, 0, len(p)+len(q))}
	for _, x := range append(append(c.parts, p...), q...) {
		if !x.known && x.holds != nil {
			x = x.given(when)
		}
		if x.empty() && len(p)+len(q) > 1 || len(c.parts) > 0 && x.anything() && c.parts[len(c.parts)-1].anything() {
			continue
		}
		c.parts = append(c.parts, x)
	}
	if len(c.parts) == 0 {
		c.parts = p
	}
	return c
}

// empty reports whether a part is a text without letters.
func (p part) empty() bool { return p.known && p.base == none && p.text == "" && p.from == "" }

// anything reports whether nothing is known of a part.
func (p part) anything() bool { return !p.known && p.holds == nil }

// given is what a part is where the keys of tables are known.
func (p part) given(when []cond) part {
	for _, c := range when {
		if c.key == any(p.holds) && c.noneOf == nil {
			return part{text: c.is, length: -1, known: true}
		}
	}
	return p
}

// both joins two conditions; ok is false when they can't hold together.
func both(x, y []cond) (when []cond, ok bool) {
	if len(y) == 0 {
		return x, true
	}
	if len(x) == 0 {
		return y, true
	}
	for _, a := range x {
		for _, b := range y {
			if a.key == b.key && !a.agrees(b) {
				return nil, false
			}
		}
	}
	return append(x[:len(x):len(x)], y...), true
}

func (c cond) agrees(o cond) bool {
	switch {
	case c.noneOf != nil && o.noneOf != nil:
		return true
	case c.noneOf != nil:
		return !has(c.noneOf, o.is)
	case o.noneOf != nil:
		return !has(o.noneOf, c.is)
	}
	return c.is == o.is
}

func has(o *js.ObjectExpr, key string) bool {
	for i := range o.List {
		if name, ok := nameOf(&o.List[i]); ok && name == key {
			return true
		}
	}
	return false
}

// nameOf is the key of a property in an object's literal.
func nameOf(p *js.Property) (string, bool) {
	if p.Name == nil {
		if m, ok := p.Value.(*js.MethodDecl); ok && m.Name.Private == nil {
			return propertyName(&m.Name.PropertyName)
		}
		return "", false
	}
	return propertyName(p.Name)
}

func propertyName(n *js.PropertyName) (string, bool) {
	if n.Computed != nil {
		l, ok := n.Computed.(*js.LiteralExpr)
		if !ok || l.TokenType != js.StringToken {
			return "", false
		}
		return unquoted(l.Data), true
	}
	if n.Literal.TokenType == js.StringToken {
		return unquoted(n.Literal.Data), true
	}
	return string(n.Literal.Data), true
}

// union joins alternatives; each is weaker for the others unless sure says that all of them happen.
func union(sure bool, values ...value) value {
	var out value
	some := 0
	for _, v := range values {
		if len(v) > 0 {
			some++
		}
	}
	if some == 1 {
		for _, v := range values {
			if len(v) > 0 && (sure || len(values) == 1) {
				return v
			}
		}
	}
	for _, v := range values {
		for _, a := range v {
			if len(out) >= maxAlternatives || len(out) >= maxUnion && !a.entry {
				return out
			}
			a.weak = a.weak || !sure
			out = append(out, a)
		}
	}
	return out
}

// unquoted is the text of a string's literal, quotes and all.
func unquoted(literal []byte) string {
	if len(literal) < 2 {
		return ""
	}
	return unescaped(literal[1 : len(literal)-1])
}
