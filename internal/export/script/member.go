package script

import (
	"strconv"

	"github.com/tdewolff/parse/v2/js"
)

// addresses are properties of the language and the page that hold an address.
var addresses = map[string]base{
	"location": page, "location.href": page, "location.pathname": page,
	"document.location": page, "document.location.href": page, "document.location.pathname": page,
	"document.URL": page, "document.baseURI": page, "document.documentURI": page,
	"location.origin": origin, "location.host": origin, "document.location.origin": origin, "document.location.host": origin,
	"origin": origin, "import.meta.url": here, "document.currentScript.src": here,
}

// maxMembers is how many objects may have a property of a name for it to be looked up by that name alone.
const maxMembers = 12

// member is a property of what an expression may be.
func (v *evaluator) member(x js.IExpr, name string, in *frame) value {
	return v.memberOf(v.value(x, in), x, name, in)
}

func (v *evaluator) memberOf(objects value, x js.IExpr, name string, in *frame) value {
	var out []value
	for _, a := range objects {
		if m, ok := v.own(a, name); ok {
			out = append(out, m)
		}
	}
	sure := len(out) > 0
	direct, _ := bare(x).(*js.Var)
	if direct != nil {
		direct = resolved(direct)
		out = append(out, v.heldBy(direct, name)...)
		if name == "response" || name == "responseText" {
			for _, address := range v.opened[direct] {
				out = append(out, v.loaded(v.value(address, in)))
			}
		}
	}
	for _, a := range objects {
		out = append(out, v.inherited(a, name, direct)...)
	}
	v.steps -= 1 + len(out)
	if len(out) > 0 {
		return union(sure && len(out) == 1 || len(out) == 1, out...)
	}
	for _, a := range objects {
		if a.what == isGlobal {
			return value{{what: isGlobal, name: a.name + "." + name}}
		}
	}
	return v.byName(name, objects)
}

// heldBy is what was set under a name of a variable.
func (v *evaluator) heldBy(holder *js.Var, name string) (out []value) {
	for _, m := range v.named[named{holder, name}] {
		out = append(out, v.value(m.value, nil))
	}
	return out
}

// inherited is what an object has under a name by its class, or by the variables that hold it, but for one.
func (v *evaluator) inherited(a alternative, name string, but *js.Var) (out []value) {
	if class, ok := a.node.(*js.ClassDecl); ok {
		for _, m := range v.members[name] {
			if m.object == js.IExpr(class) {
				out = append(out, v.value(m.value, nil))
			}
		}
	}
	if a.node == nil {
		return out
	}
	for _, in := range v.holders[a.node] {
		if in != but {
			out = append(out, v.heldBy(in, name)...)
		}
	}
	return out
}

// byName looks a property up by its name alone, where it is not known which object it is of.
func (v *evaluator) byName(name string, objects value) value {
	list := v.members[name]
	if len(list) == 0 || len(list) > maxMembers || len(name) < 2 && len(list) > 2 {
		return nil
	}
	for _, a := range objects {
		if a.what == isGlobal || a.what == isText {
			return nil
		}
	}
	var out []value
	for _, m := range list {
		out = append(out, v.value(m.value, nil))
	}
	return union(len(list) == 1 && isThis(list[0].object), out...)
}

func isThis(e js.IExpr) bool {
	l, ok := e.(*js.LiteralExpr)
	return ok && l.TokenType == js.ThisToken
}

// own is the property of one alternative; ok is false where nothing is known of it.
func (v *evaluator) own(a alternative, name string) (value, bool) {
	switch a.what {
	case isText:
		if i, ok := a.imported("." + name); ok {
			return value{i}, true
		}
		switch name {
		case "href", "src", "url", "pathname": // of an address
			return value{a}, true
		case "origin", "host":
			return based(origin), true
		}
	case isGlobal:
		return v.globalMember(a, name)
	case isLoaded, isDecoder:
		return value{a}, true
	case isModule:
		return value{{parts: []part{{text: name, length: -1, from: a.name, known: true}}}}, true
	case isObject:
		return v.property(a, name)
	}
	return nil, false
}

func (v *evaluator) globalMember(a alternative, name string) (value, bool) {
	whole := a.name + "." + name
	if windows[a.name] || a.name == "top" || a.name == "parent" {
		whole = name
	}
	if b, ok := addresses[whole]; ok {
		if whole == "location" || whole == "document.location" {
			return value{{what: isGlobal, name: whole}}, true
		}
		return based(b), true
	}
	if len(v.members[name]) > 0 && whole == name { // window.base = …
		var out []value
		for _, m := range v.members[name] {
			if o, ok := m.object.(*js.Var); ok && windows[string(o.Name())] {
				out = append(out, v.value(m.value, nil))
			}
		}
		if len(out) > 0 {
			return union(len(out) == 1, out...), true
		}
	}
	known := map[string]bool{"document": true, "import.meta": true, "document.currentScript": true, "document.location": true}
	return value{{what: isGlobal, name: whole}}, whole == name || known[a.name]
}

// property is one of an object's literal, or a static one of a class.
func (v *evaluator) property(a alternative, name string) (value, bool) {
	o, ok := a.node.(*js.ObjectExpr)
	if !ok {
		return nil, false
	}
	for i := len(o.List) - 1; i >= 0; i-- {
		p := &o.List[i]
		if n, ok := nameOf(p); ok && n == name {
			if m, ok := p.Value.(*js.MethodDecl); ok && m.Get {
				return v.result(alternative{what: isFunction, node: m, frame: a.frame}, args{}, a.frame), true
			}
			return v.value(p.Value, a.frame), true
		}
		if p.Spread && v.depth < maxDepth && v.steps > 0 {
			v.steps--
			v.depth++
			for _, x := range v.value(p.Value, a.frame) {
				if m, ok := v.own(x, name); ok && x.node != a.node {
					v.depth--
					return m, true
				}
			}
			v.depth--
		}
	}
	return nil, false
}

// lookup is x[key]. Where the key is not known, it may be any entry.
func (v *evaluator) lookup(e *js.IndexExpr, in *frame) value {
	key := v.value(e.Y, in)
	objects := v.value(e.X, in)
	if name, ok := key.only(); ok {
		if n, err := strconv.Atoi(name); err == nil {
			for _, a := range objects {
				if entries, ok := v.entries(a); ok && n >= 0 && n < len(entries) {
					return entries[n]
				}
			}
		}
		return v.memberOf(objects, e.X, name, in)
	}
	var out value
	variable, _ := bare(e.Y).(*js.Var)
	for _, a := range objects {
		switch n := a.node.(type) {
		case *js.ObjectExpr:
			out = append(out, v.anyEntry(n, a.frame, variable)...)
		default:
			if entries, ok := v.entries(a); ok {
				for _, x := range entries {
					for _, y := range x {
						y.entry = true
						out = append(out, y)
					}
				}
			}
		}
		if len(out) > maxAlternatives {
			return out[:maxAlternatives]
		}
	}
	return out
}

// anyEntry are all entries of a table, each for its key.
func (v *evaluator) anyEntry(o *js.ObjectExpr, in *frame, key *js.Var) value {
	var out value
	for i := range o.List {
		name, ok := nameOf(&o.List[i])
		if !ok || o.List[i].Value == nil {
			continue
		}
		for _, y := range v.value(o.List[i].Value, in) {
			y.entry = true
			if key != nil && y.what == isText {
				if when, ok := both(y.when, []cond{{key: resolved(key), is: name}}); ok {
					y.when = when
				}
			}
			out = append(out, y)
		}
		if len(out) > maxAlternatives {
			break
		}
	}
	return out
}
