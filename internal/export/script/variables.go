package script

import (
	"slices"
	"strconv"

	"github.com/tdewolff/parse/v2/js"
)

// variable is what a variable may hold.
func (v *evaluator) variable(e *js.Var, in *frame) value {
	r := resolved(e)
	n := v.variables[r]
	if r.Decl == js.NoDecl {
		name := string(r.Data)
		if i, ok := v.imports[name]; ok {
			if i.name == "*" {
				return value{{what: isModule, name: i.from}}
			}
			return value{{parts: []part{{text: i.name, length: -1, from: i.from, known: true}}}}
		}
		if n == nil || addresses[name] != none || byName[name] != nil || windows[name] || name == "document" {
			return value{{what: isGlobal, name: name}}
		}
	}
	if n == nil {
		return nil
	}
	if n.owner != nil {
		for f := in; f != nil; f = f.outer {
			if f.function == n.owner {
				return v.given(n, f)
			}
		}
		return v.once(r, nil, func() value { return v.parameter(n) })
	}
	within := in.of(n)
	return v.once(r, within, func() value { return v.settings(n, within).kept() })
}

// of is the frame in which a variable is set; nil where that has nothing to do with the calls that are followed.
func (in *frame) of(n *variable) *frame {
	for f := in; f != nil; f = f.outer {
		for _, s := range n.set {
			if s.within == f.function {
				return f
			}
		}
	}
	return nil
}

// kept is the value as a variable holds it: what uses the host's root elsewhere can't be told.
func (v value) kept() value {
	for i, a := range v {
		if len(a.parts) > 0 && a.parts[0].base == origin && a.parts[0].length >= 0 {
			out := append(value(nil), v...)
			out[i].parts = append([]part{{known: true, base: origin, length: -1}}, a.parts[1:]...)
			return out.kept()
		}
	}
	return v
}

func (v *evaluator) settings(n *variable, in *frame) value {
	var held, added []value
	for _, s := range n.set {
		x := v.setting(s, in)
		if s.how == adds {
			added = append(added, x)
		} else if len(x) > 0 || len(n.set) > 1 {
			held = append(held, x)
		}
	}
	out := union(len(n.set)-len(added) == 1, held...)
	v.steps -= len(n.set) + len(out)/2
	if len(added) == 0 {
		return out
	}
	begin := out[:min(len(out), 8)]
	for i, x := range added {
		if i > 0 { // something stands between that is another addition
			begin = concat(out[:min(len(out), 8)], nil)
		}
		out = append(out[:len(out):len(out)], concat(begin, x)...)
	}
	return out
}

func (v *evaluator) setting(s setting, in *frame) value {
	switch s.how {
	case is, adds:
		return v.value(s.from, in)
	case property:
		return v.memberOf(v.value(s.from, in), s.from, s.key, in)
	case item:
		var out value
		for _, a := range v.value(s.from, in) {
			if entries, ok := v.entries(a); ok && s.at < len(entries) {
				out = append(out, entries[s.at]...)
			}
		}
		return out
	case each:
		return v.each(v.value(s.from, in))
	case keys:
		return v.keys(v.value(s.from, in))
	}
	return nil
}

// each is what the entries of lists may be.
func (v *evaluator) each(lists value) value {
	var out value
	for _, a := range lists {
		entries, _ := v.entries(a)
		for _, x := range entries {
			out = append(out, x...)
			if len(out) > maxAlternatives {
				return out[:maxAlternatives]
			}
		}
	}
	return out
}

// spread puts the entries of lists in their places: some sinks take either.
func (v *evaluator) spread(in value) value {
	if !slices.ContainsFunc(in, func(a alternative) bool { return a.what == isList }) {
		return in
	}
	var out value
	for _, a := range in {
		if a.what == isList {
			out = append(out, v.each(value{a})...)
		} else {
			out = append(out, a)
		}
	}
	return out
}

// keys are the names of the properties of objects.
func (v *evaluator) keys(objects value) value {
	var out value
	for _, a := range objects {
		o, ok := a.node.(*js.ObjectExpr)
		if !ok {
			continue
		}
		for i := range o.List {
			if n := o.List[i].Name; n != nil && n.Computed == nil && len(out) < maxAlternatives {
				if n.Literal.TokenType == js.StringToken {
					out = append(out, alternative{parts: []part{v.written(n.Literal.Data[1:len(n.Literal.Data)-1], n.Literal.Data[0])}})
				} else {
					out = append(out, known(string(n.Literal.Data))...)
				}
			}
		}
	}
	return out
}

// entries are those of one list.
func (v *evaluator) entries(a alternative) ([]value, bool) {
	if a.items != nil {
		return a.items, true
	}
	l, ok := a.node.(*js.ArrayExpr)
	if _, within := v.active[l]; !ok || a.what != isList || within || v.depth > maxDepth {
		return nil, false
	}
	v.active[l] = len(v.active) + 1
	v.depth++
	defer func() {
		v.depth--
		delete(v.active, l)
	}()
	out := make([]value, 0, len(l.List))
	for _, x := range l.List {
		if len(out) > maxAlternatives {
			break
		}
		v.steps--
		if !x.Spread {
			out = append(out, v.value(x.Value, a.frame))
			continue
		}
		for _, b := range v.value(x.Value, a.frame) {
			if more, _ := v.entries(b); len(out)+len(more) <= maxAlternatives {
				out = append(out, more...)
			}
		}
	}
	return out, true
}

// given is a parameter in the call that is followed.
func (v *evaluator) given(n *variable, f *frame) value {
	v.steps--
	x := v.argument(f.args, n.param, f.caller)
	if len(x) == 0 && len(n.set) > 0 {
		return v.settings(n, f)
	}
	return x
}

// parameter is what a function may be given in all calls of it.
func (v *evaluator) parameter(n *variable) value {
	var all []value
	calls, sure := v.callsOf(n.owner)
	for i, c := range calls {
		x := v.argument(c, n.param, nil)
		if len(x) == 0 && len(n.set) > 0 {
			x = v.settings(n, nil)
		}
		if len(calls) > 1 {
			x = x.where(cond{key: n.owner, is: strconv.Itoa(i)})
		}
		all = append(all, x)
		v.steps -= 1 + len(x)/2
	}
	if len(calls) == 0 {
		return v.settings(n, nil)
	}
	return union(sure, all...)
}

// where is a value that holds on a condition.
func (v value) where(c cond) value {
	out := make(value, 0, len(v))
	for _, a := range v {
		if when, ok := both(a.when, []cond{c}); ok {
			a.when = when
			out = append(out, a)
		}
	}
	return out
}

func (v *evaluator) argument(a args, i int, in *frame) value {
	if a.entries != nil {
		if i > 0 {
			return nil
		}
		return v.each(v.value(a.entries, in))
	}
	if i += a.skip; i < len(a.list) && !a.list[i].Rest {
		return v.value(a.list[i].Value, in)
	}
	return nil
}

// callsOf lists the calls of a function. sure is false where they are told by a property's name alone.
func (v *evaluator) callsOf(f *function) (list []args, sure bool) {
	sure = true
	list = append(list, f.called...)
	for _, x := range f.vars {
		list = append(list, v.calls[x]...)
	}
	for _, x := range f.tables {
		list = append(list, v.lookups[x]...)
	}
	for _, name := range f.names {
		if more := v.methods[name]; len(more) < maxMethods && len(more) > 0 && len(v.members[name]) < maxMembers {
			list, sure = append(list, more...), false
		}
	}
	if len(list) > maxCalls {
		return nil, false
	}
	return list, sure
}
