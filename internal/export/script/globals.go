package script

import (
	"bytes"
	"slices"
	"strings"

	"github.com/tdewolff/parse/v2/js"
)

// ordinary are globals whose calls say nothing about a portal.
var ordinary = map[string]bool{
	"this": true, "window": true, "self": true, "globalThis": true, "document": true, "console": true, "Math": true, "Object": true,
	"Array": true, "JSON": true, "Number": true, "String": true, "Promise": true, "Reflect": true, "Symbol": true, "Date": true,
	"performance": true, "navigator": true, "undefined": true, "NaN": true, "Infinity": true,
	"WebAssembly": true, "Atomics": true, "super": true, "arguments": true, "module": true, "exports": true, "process": true, "Buffer": true,
}

// foreign is a dotted name of a global without the window that it is in: Portal.ready of window.Portal.ready. It is "" for what the
// language and the browser bring along, and for short names, which minifiers give.
func foreign(name string) string {
	for {
		first, rest, ok := strings.Cut(name, ".")
		switch {
		case ok && (windows[first] || first == "parent" || first == "top"):
			name = rest
		case len(first) < 3 || ordinary[first]:
			return ""
		default:
			return name
		}
	}
}

// A callee is what a call calls, where its name alone doesn't tell what that is.
type callee struct {
	expr  js.IExpr
	name  string // as it is written; "" for one that isn't a dotted name
	at    int
	first js.IExpr // argument; nil for none
}

// call notes a call by a dotted name, such as Portal.score.submit( or window.Portal.ready(.
func (f *facts) call(e *js.CallExpr) {
	c := callee{expr: bare(e.X)}
	list := e.Args.List
	if d, ok := c.expr.(*js.DotExpr); ok {
		switch name := dotName(d); name {
		case "call", "bind", "apply":
			c.expr, list = bare(d.X), list[min(1, len(list)):]
			if name == "apply" {
				list = nil
			}
		}
	}
	if len(list) > 0 {
		c.first = list[0].Value
	}
	var root *js.Var
	c.name, root, c.at = f.dotted(c.expr)
	if c.at == 0 {
		c.at = f.within(c.expr)
	}
	if root != nil && global(root) {
		f.calls(c.name, c)
	} else {
		f.callees = append(f.callees, c)
	}
}

// calls notes that a callee is the global of that name.
func (f *facts) calls(name string, c callee) {
	if !strings.Contains(name, ".") {
		return
	}
	if _, ok := f.script.Calls[name]; !ok && len(f.script.Calls) < maxCallNames {
		f.script.Calls[name] = c.at
	}
	if c.first != nil && len(f.first) < maxCallNames {
		f.first = append(f.first, firstArgument{name, c.first})
	}
}

// uses notes a global that is taken as a value, by its dotted name.
func (f *facts) uses(e js.IExpr) {
	if !global(e) {
		return
	}
	if name, root, at := f.dotted(e); root != nil {
		f.use(name, at)
	}
}

// global reports whether an expression begins with a global variable.
func global(e js.IExpr) bool {
	for {
		switch x := bare(e).(type) {
		case *js.Var:
			return resolved(x).Decl == js.NoDecl
		case *js.DotExpr:
			e = x.X
		case *js.IndexExpr:
			e = x.X
		default:
			return false
		}
	}
}

func (f *facts) use(name string, at int) {
	if _, ok := f.script.Uses[name]; !ok && name != "" && len(f.script.Uses) < maxCallNames {
		f.script.Uses[name] = at
	}
}

// dotted is an expression's foreign name, Portal.ready of window["Portal"].ready, the variable that it begins with, and where the name
// stands; nil for an expression that is no dotted name.
func (f *facts) dotted(e js.IExpr) (name string, root *js.Var, at int) {
	var parts [8]string
	var places [8]int
	for n := len(parts) - 1; n >= 0; n-- {
		switch x := bare(e).(type) {
		case *js.Var:
			parts[n], places[n] = string(x.Name()), f.offset(x.Data)
			if next := n + 1; next < len(parts) {
				places[n] = max(0, bytes.LastIndex(f.source[:places[next]], x.Name()))
			}
			name = foreign(strings.Join(parts[n:], "."))
			return name, x, places[max(n, len(parts)-1-strings.Count(name, "."))]
		case *js.DotExpr:
			y, ok := x.Y.(js.LiteralExpr)
			if !ok {
				return "", nil, 0
			}
			parts[n], places[n], e = string(y.Data), f.offset(y.Data), x.X
		case *js.IndexExpr:
			key := quotedKey(x)
			if key == nil {
				return "", nil, 0
			}
			parts[n], places[n], e = unquoted(key), f.offset(key), x.X
		default:
			return "", nil, 0
		}
	}
	return "", nil, 0
}

// within is where something in an expression stands that is looked into.
func (f *facts) within(e js.IExpr) int {
	switch x := bare(e).(type) {
	case *js.Var:
		return f.offset(x.Data)
	case *js.DotExpr:
		if y, ok := x.Y.(js.LiteralExpr); ok {
			return f.offset(y.Data)
		}
	case *js.IndexExpr:
		return max(f.within(x.Y), f.within(x.X))
	case *js.BinaryExpr:
		return f.within(x.X)
	case *js.LiteralExpr:
		return f.offset(x.Data)
	}
	return 0
}

// quotedKey is the key of an entry that is looked up, quotes and all; nil where it is put together.
func quotedKey(x *js.IndexExpr) []byte {
	switch y := bare(x.Y).(type) {
	case *js.LiteralExpr:
		if y.TokenType == js.StringToken {
			return y.Data
		}
	case *js.TemplateExpr:
		if len(y.List) == 0 && y.Tag == nil {
			return y.Tail
		}
	}
	return nil
}

// looks walks through what is called, looked into, tested or compared: none of these hands a global on.
func (w *walker) looks(e js.IExpr) {
	switch e := bare(e).(type) {
	case *js.Var, *js.DotExpr, *js.IndexExpr:
		w.head = e
	}
	w.walk(e, false)
}

// takes notes an expression that may be a global that is handed on.
func (w *walker) takes(e js.IExpr) {
	if w.head != e {
		w.facts.uses(e)
	}
	w.head = nil
}

// callees follows what is called by variables and properties to the globals that they may stand for.
func (r *reader) callees(f *facts) {
	for _, c := range slices.Backward(f.callees) { // what a bundler puts last is the game
		names, known := r.globals(c)
		for _, name := range names {
			f.calls(name, c)
		}
		if len(names) == 0 && !known {
			f.calls(c.name, c) // of a variable that is called like the global
		}
	}
}

// globals are the dotted names of what is called; known says that it is something else, whatever happens.
func (r *reader) globals(c callee) (names []string, known bool) {
	var held value
	member := ""
	switch x := c.expr.(type) {
	case *js.Var:
		held = r.values.value(x, nil)
	case *js.DotExpr:
		held, member = r.values.value(x.X, nil), "."+dotName(x)
	case *js.IndexExpr:
		held = r.values.value(x.X, nil)
		if key, ok := r.values.value(x.Y, nil).only(); ok {
			member = "." + key
		}
	default:
		return nil, true
	}
	for _, a := range held {
		if name := foreign(a.name + member); a.what == isGlobal && name != "" {
			names = append(names, name)
		}
	}
	return names, len(held) > 0 && !slices.ContainsFunc(held, func(a alternative) bool { return a.weak })
}
