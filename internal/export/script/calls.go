package script

import (
	"bytes"

	"github.com/tdewolff/parse/v2/js"

	"havvel/internal/export/link"
)

func (w *walker) called(e *js.CallExpr) {
	w.call(e.X, e.Args.List)
	w.facts.call(e)
	w.gives(e)
	callee, on := e.X, js.IExpr(nil)
	switch c := callee.(type) {
	case *js.DotExpr:
		on = c.X
		name := dotName(c)
		w.sinks("."+name, e, e.Args.List, on, nil)
		if _, ok := byName[name]; ok { // window.fetch
			w.sinks(name, e, e.Args.List, nil, c)
		}
		w.method(name, c, e)
		switch {
		case name == "assign" && endsIn(on, "Object") && len(e.Args.List) > 0:
			w.put(e, e.Args.List[min(1, len(e.Args.List)):], e.Args.List[0].Value)
		case name == "register" && endsIn(on, "serviceWorker"):
			w.facts.script.Words[Registers] = true
			if len(e.Args.List) > 1 {
				w.put(e, e.Args.List[1:], on)
			}
		}
	case *js.LiteralExpr:
		if c.TokenType == js.ImportToken && len(e.Args.List) > 0 {
			w.loads = append(w.loads, load{importing, e.Args.List[0].Value, nil, nil, e})
		}
	case *js.Var:
		w.sinks(string(c.Name()), e, e.Args.List, nil, c)
		if name := w.alias(c); name != "" {
			w.sinks(name, e, e.Args.List, nil, nil)
		}
	}
	w.looks(e.X)
	w.arguments(e.Args.List)
}

// alias is the name of the sink that a variable stands for: const load = window.fetch.
func (w *walker) alias(v *js.Var) string {
	known := w.variables[resolved(v)]
	if known == nil || len(known.set) == 0 || known.set[0].how != is {
		return ""
	}
	name := ""
	switch from := known.set[0].from.(type) {
	case *js.Var:
		if resolved(from).Decl == js.NoDecl {
			name = string(from.Name())
		}
	case *js.DotExpr:
		if root, ok := from.X.(*js.Var); ok && windows[string(root.Name())] {
			name = dotName(from)
		}
	}
	if byName[name] == nil {
		return ""
	}
	return name
}

// windows are names of the global object.
var windows = map[string]bool{"window": true, "self": true, "globalThis": true}

// put notes what objects among the arguments set on something.
func (w *walker) put(e *js.CallExpr, list []js.Arg, on js.IExpr) {
	for _, a := range list {
		o, ok := a.Value.(*js.ObjectExpr)
		if !ok {
			continue
		}
		for i := range o.List {
			if name, ok := nameOf(&o.List[i]); ok {
				w.load(name+"=", o.List[i].Value, on, nil, e)
			}
		}
	}
}

// importing is the sink of import(…).
var importing = &sink{name: "import", use: "script", sure: link.Certain, base: link.OfFile}

// method looks at methods that cut texts, or compare them.
func (w *walker) method(name string, c *js.DotExpr, e *js.CallExpr) {
	if len(e.Args.List) == 0 {
		return
	}
	first, _ := e.Args.List[0].Value.(*js.LiteralExpr)
	switch name {
	case "startsWith", "indexOf", "includes", "split", "replace":
		if first != nil && rooted(first) {
			w.kept = append(w.kept, c.X, first)
		}
	case "slice", "substr", "substring":
		if first != nil && js.IsNumeric(first.TokenType) && !bytes.Equal(first.Data, []byte("0")) {
			w.kept = append(w.kept, c.X)
		}
	}
}

func (w *walker) made(e *js.NewExpr) {
	var list []js.Arg
	if e.Args != nil {
		list = e.Args.List
	}
	w.call(e.X, list)
	switch c := e.X.(type) {
	case *js.Var:
		w.sinks(string(c.Name()), e, list, nil, c)
		if w.global(c, "URL") && len(list) > 0 {
			w.loads = append(w.loads, load{address, e, nil, nil, e})
		}
	case *js.DotExpr:
		w.sinks(dotName(c), e, list, nil, c)
	}
	w.looks(e.X)
	w.arguments(list)
}

// attribute is the sink of an object that holds the attributes of an element.
var attribute = &sink{name: "attribute", use: "data", sure: link.Possible}

// address is the sink of new URL(…), whose value most often reaches another one.
var address = &sink{name: "URL", use: "data", sure: link.Likely}

func (w *walker) arguments(list []js.Arg) {
	for i := range list {
		w.walk(list[i].Value, false)
	}
}

// sinks notes a call of that name where it is one.
func (w *walker) sinks(name string, node js.INode, list []js.Arg, on, callee js.IExpr) {
	for _, s := range byName[name] {
		if s.on != "" && !endsIn(on, s.on) || s.needs != "" && !s.fits(list) {
			continue
		}
		given := list
		switch {
		case s.arg == -2 && len(list) > 0:
			given = list[:1]
			if a, ok := list[0].Value.(*js.ArrayExpr); ok {
				for _, x := range a.List {
					w.loads = append(w.loads, load{s, x.Value, on, callee, node})
				}
				continue
			}
		case s.arg == -2 || s.arg >= len(list):
			continue
		case s.arg >= 0:
			given = list[s.arg : s.arg+1]
		}
		for _, a := range given {
			w.loads = append(w.loads, load{s, a.Value, on, callee, node})
		}
	}
}

// fits reports whether what stands before the name is what the sink needs.
func (s *sink) fits(list []js.Arg) bool {
	if s.arg <= 0 || len(list) <= s.arg {
		return false
	}
	l, ok := list[s.arg-1].Value.(*js.LiteralExpr)
	return ok && s.takes(unquoted(l.Data))
}
