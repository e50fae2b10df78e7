package script

import "github.com/tdewolff/parse/v2/js"

func (w *walker) object(e *js.ObjectExpr) {
	for i := range e.List {
		p := &e.List[i]
		if name, ok := nameOf(p); ok {
			w.member(name, member{value: p.Value})
			w.keyed = w.keyed || len(name) > 1 && name[0] == '/'
			w.facts.word([]byte(name))
			if name == "src" || name == "poster" { // of an element that a library makes
				w.loads = append(w.loads, load{sink: attribute, value: p.Value, node: e})
			}
		}
		if p.Name != nil && p.Name.Computed != nil {
			w.walk(p.Name.Computed, false)
		}
		w.walk(p.Value, false)
		w.walk(p.Init, false)
	}
}

func (w *walker) class(e *js.ClassDecl) {
	w.walk(e.Extends, false)
	if e.Name != nil {
		w.set(e.Name, setting{how: is, from: e})
	}
	for i := range e.List {
		c := &e.List[i]
		switch {
		case c.StaticBlock != nil:
			w.block(c.StaticBlock)
		case c.Method != nil:
			if name, ok := propertyName(&c.Method.Name.PropertyName); ok && c.Method.Name.Private == nil {
				w.member(name, member{value: c.Method})
			}
			w.walk(c.Method, false)
		default:
			if c.Init != nil {
				name := ""
				if c.Name.Private != nil {
					name = string(c.Name.Private.Name())
				} else {
					name, _ = propertyName(&c.Name.PropertyName)
				}
				w.member(name, member{value: c.Init, object: e, static: c.Static})
			}
			w.walk(c.Init, false)
		}
	}
}
