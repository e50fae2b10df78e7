package script

import (
	"bytes"
	"slices"

	"github.com/tdewolff/parse/v2/js"

	"havvel/internal/export/encoding"
)

// A choice is a text that says in which form a file is loaded, and stands where tests lead.
type choice struct {
	at    int // offset of the text
	tests []js.IExpr
}

// under does work for a part of the script that is only reached by a test.
func (w *walker) under(test js.IExpr, work func()) {
	w.tests = append(w.tests, test)
	work()
	w.tests = w.tests[:len(w.tests)-1]
}

// chosen notes a text that ends as the name of a compressed file does, such as ".br", and the tests that lead to it.
func (w *walker) chosen(inner []byte) {
	if len(w.tests) == 0 || len(inner) < 2 {
		return
	}
	_, form := encoding.Named("x." + string(inner[bytes.LastIndexByte(inner, '.')+1:]))
	if form != "" {
		w.choices = append(w.choices, choice{offset(w.facts.source, inner), slices.Clone(w.tests)})
	}
}

// guessing lists where texts stand that are chosen by what the browser says of itself, such as its name, and not by what it accepts.
func (w *walker) guessing() map[int]bool {
	out := map[int]bool{}
	for _, c := range w.choices {
		asks := asking{index: w.index, left: mostAsked, met: map[js.INode]bool{}}
		for _, test := range c.tests {
			js.Walk(&asks, test)
		}
		if asks.found {
			out[c.at] = true
		}
	}
	return out
}

// mostAsked bounds how many nodes are looked at for one text.
const mostAsked = 5000

// identity are properties and methods that tell which browser it is, or which media it plays.
var identity = map[string]bool{
	"userAgent": true, "userAgentData": true, "appVersion": true, "canPlayType": true, "isTypeSupported": true,
	"navigator.vendor": true, "navigator.platform": true,
}

// asking looks in a test, and in what its variables stand for, for a question about the browser's identity.
type asking struct {
	*index
	left  int
	met   map[js.INode]bool
	found bool
}

// last is the last name of a dotted one.
func last(e js.IExpr) string {
	switch e := bare(e).(type) {
	case *js.DotExpr:
		return dotName(e)
	case *js.Var:
		return string(e.Name())
	}
	return ""
}

// Enter is part of js.IVisitor.
func (a *asking) Enter(n js.INode) js.IVisitor {
	if a.left--; a.left < 0 || a.found {
		return nil
	}
	switch n := n.(type) {
	case *js.DotExpr:
		a.found = identity[dotName(n)] || identity[last(n.X)+"."+dotName(n)]
	case *js.Var:
		v := resolved(n)
		if a.met[v] {
			break
		}
		a.met[v] = true
		if known := a.variables[v]; known != nil {
			for _, s := range known.set {
				js.Walk(a, s.from)
			}
		}
	}
	return a
}

// Exit is part of js.IVisitor.
func (*asking) Exit(js.INode) {}
