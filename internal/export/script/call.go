package script

import (
	"regexp"
	"strconv"
	"strings"

	"github.com/tdewolff/parse/v2/js"
)

// call is what a call returns.
func (v *evaluator) call(e *js.CallExpr, in *frame) value {
	list := e.Args.List
	if l, ok := e.X.(*js.LiteralExpr); ok && l.TokenType == js.ImportToken {
		if spec, ok := v.first(list, in).only(); ok { // (await import("./x.js")).name
			return value{{what: isModule, name: spec}}
		}
		return nil
	}
	if d, ok := bare(e.X).(*js.DotExpr); ok {
		if out, ok := v.method(d, list, in); ok {
			return out
		}
	}
	var out []value
	for _, a := range v.value(e.X, in) {
		switch a.what {
		case isFunction:
			out = append(out, v.result(a, args{list: list}, in))
		case isGlobal:
			out = append(out, v.builtin(a.name, list, in))
		case isText:
			if i, ok := a.imported("()"); ok { // what a function of another module returns
				out = append(out, value{i})
			}
		}
	}
	return union(len(out) == 1, out...)
}

func (v *evaluator) first(list []js.Arg, in *frame) value {
	if len(list) == 0 || list[0].Rest {
		return nil
	}
	return v.value(list[0].Value, in)
}

// result is what a function returns when it is called with these arguments.
func (v *evaluator) result(a alternative, given args, caller *frame) value {
	f := v.functions[a.node]
	depth := 0
	if caller != nil {
		depth = caller.depth + 1
	}
	if f == nil || depth > maxFrames {
		return nil
	}
	in := &frame{function: f, args: given, caller: caller, outer: a.frame, depth: depth}
	return v.once(f, in, func() value {
		var out []value
		for _, r := range f.returns {
			out = append(out, v.value(r, in))
		}
		return union(len(out) == 1, out...)
	})
}

// builtin is what a function of the language or the page returns.
func (v *evaluator) builtin(name string, list []js.Arg, in *frame) value {
	switch name {
	case "String", "encodeURI", "decodeURI", "encodeURIComponent", "decodeURIComponent", "structuredClone", "require":
		return v.first(list, in)
	case "import.meta.resolve":
		return resolve(v.first(list, in), based(hereFolder))
	case "document.createElement", "document.createElementNS":
		if len(list) > 0 {
			if tag, ok := v.value(list[len(list)-1].Value, in).only(); ok {
				return value{{what: isElement, name: strings.ToLower(tag)}}
			}
		}
	case "Image", "Audio":
		return value{{what: isElement, name: map[string]string{"Image": "img", "Audio": "audio"}[name]}}
	case "Object.freeze", "Object.seal", "Object.create", "Promise.resolve", "URL.parse", "Array.from", "Array.of":
		return v.first(list, in)
	case "Object.assign":
		var out value
		for _, a := range list {
			out = append(out, v.value(a.Value, in)...)
		}
		return out
	case "Object.keys":
		return value{{what: isList, items: single(v.keys(v.first(list, in)))}}
	case "Object.values":
		return value{{what: isList, items: single(v.values(v.first(list, in)))}}
	case "Object.entries":
		return value{{what: isList, items: v.pairs(v.first(list, in))}}
	case "String.raw":
		return nil
	}
	return nil
}

// single makes a list of alternatives.
func single(x value) []value {
	out := make([]value, len(x))
	for i := range x {
		out[i] = x[i : i+1]
	}
	return out
}

func (v *evaluator) values(objects value) value {
	var out value
	for _, a := range objects {
		if o, ok := a.node.(*js.ObjectExpr); ok {
			out = append(out, v.anyEntry(o, a.frame, nil)...)
		}
	}
	return out
}

func (v *evaluator) pairs(objects value) []value {
	out := []value{}
	for _, a := range objects {
		o, ok := a.node.(*js.ObjectExpr)
		if !ok {
			continue
		}
		names := v.keys(value{a})
		if len(names) != len(o.List) {
			continue
		}
		for i := range o.List {
			out = append(out, value{{what: isList, items: []value{names[i : i+1], v.value(o.List[i].Value, a.frame)}}})
		}
	}
	return out
}

// method is what a method of a text or list returns; ok is false for any other.
func (v *evaluator) method(d *js.DotExpr, list []js.Arg, in *frame) (out value, ok bool) {
	switch name := dotName(d); name {
	case "toString", "trim", "valueOf", "normalize", "toLocaleString", "flat", "reverse", "sort", "values", "toWellFormed", "filter":
		return v.value(d.X, in), true
	case "concat":
		x := v.text(d.X, in)
		if len(x) > 0 && x[0].what == isList {
			break
		}
		for _, a := range list {
			x = concat(x, v.text(a.Value, in))
		}
		return x, true
	case "join":
		return v.join(v.value(d.X, in), list, in)
	case "replace", "replaceAll":
		return v.replace(v.value(d.X, in), list, in, name == "replaceAll"), true
	case "slice", "substr", "substring":
		return v.cut(v.value(d.X, in), list, in, name)
	case "map", "flatMap":
		return v.mapped(v.value(d.X, in), list, in), true
	case "bind":
		return v.value(d.X, in), true
	case "call", "apply":
		var all []value
		for _, a := range v.value(d.X, in) {
			if a.what == isFunction && name == "call" {
				all = append(all, v.result(a, args{list: list, skip: 1}, in))
			}
		}
		return union(len(all) == 1, all...), true
	case "get", "at": // of a list
	}
	return nil, false
}

func (v *evaluator) join(lists value, with []js.Arg, in *frame) (out value, ok bool) {
	between := known(",")
	if len(with) > 0 {
		between = v.text(with[0].Value, in)
	}
	for _, a := range lists {
		entries, ok := v.entries(a)
		if !ok || len(entries) > 50 {
			continue
		}
		x := known("")
		for i, e := range entries {
			if i > 0 {
				x = concat(x, between)
			}
			x = concat(x, v.asText(orUnknown(e)))
			v.steps -= len(x)
		}
		out = append(out, x...)
	}
	return out, len(out) > 0
}

func orUnknown(x value) value {
	if len(x) == 0 {
		return value{{parts: []part{unknownPart}}}
	}
	return x
}

// mapped is the list of what a function makes of the entries of another.
func (v *evaluator) mapped(lists value, with []js.Arg, in *frame) value {
	f := v.first(with, in)
	var out value
	for _, a := range lists {
		entries, ok := v.entries(a)
		if !ok || len(entries) > 500 {
			continue
		}
		items := make([]value, 0, len(entries))
		for _, e := range entries {
			var all []value
			for _, g := range f {
				if g.what == isFunction {
					stand := &js.Var{Data: []byte("entry"), Decl: js.LexicalDecl}
					v.known[stand] = e
					all = append(all, v.result(g, args{list: []js.Arg{{Value: stand}}}, nil))
				}
			}
			items = append(items, union(len(all) == 1, all...))
		}
		out = append(out, alternative{what: isList, items: items})
	}
	return out
}

// replace is what replacing a text with another leaves, where both are known.
func (v *evaluator) replace(x value, with []js.Arg, in *frame, all bool) value {
	if len(with) < 2 {
		return nil
	}
	l, _ := bare(with[0].Value).(*js.LiteralExpr)
	var pattern *regexp.Regexp
	if l != nil && l.TokenType == js.RegExpToken {
		if end := strings.LastIndexByte(string(l.Data), '/'); end > 0 {
			pattern, _ = regexp.Compile(string(l.Data[1:end])) // one that Go doesn't know is not followed
			all = all || strings.Contains(string(l.Data[end:]), "g")
		}
	}
	old, plain := v.value(with[0].Value, in).only()
	put, known := v.value(with[1].Value, in).only()
	var out value
	for _, a := range x {
		switch s, ok := a.plain(); {
		case len(a.parts) == 1 && a.parts[0].base != none && known:
			out = append(out, folderOf(a, put)...)
		case ok && known && plain:
			n := 1
			if all {
				n = -1
			}
			out = append(out, replaced(a, s, strings.Replace(s, old, put, n)))
		case ok && known && pattern != nil && !strings.Contains(put, "$"):
			result := s
			if all {
				result = pattern.ReplaceAllString(s, put)
			} else if at := pattern.FindStringIndex(s); at != nil {
				result = s[:at[0]] + put + s[at[1]:]
			}
			out = append(out, replaced(a, s, result))
		default:
			a.weak = true
			out = append(out, alternative{parts: []part{unknownPart}})
		}
	}
	return out
}

// replaced is an alternative with another text, which stands nowhere unless it is the same.
func replaced(a alternative, before, after string) alternative {
	if before == after {
		return a
	}
	p := part{text: after, at: a.parts[0].at, length: a.parts[0].length, known: true, fixed: true}
	a.parts = []part{p}
	return a
}

// folderOf is what is left of an address without its last part, with a text behind it.
func folderOf(a alternative, then string) value {
	p := a.parts[0]
	switch p.base {
	case page:
		p.base = pageFolder
	case here:
		p.base = hereFolder
	}
	a.parts = []part{p}
	return concat(value{a}, known(then))
}

// cut is a piece of a text. Of an address its folder is what remains.
func (v *evaluator) cut(x value, list []js.Arg, in *frame, name string) (out value, ok bool) {
	if len(list) == 0 {
		return x, true
	}
	from, exact := number(v.value(list[0].Value, in))
	to, ends := -1, false
	if len(list) > 1 {
		to, ends = number(v.value(list[1].Value, in))
	}
	for _, a := range x {
		if a.what == isList {
			return nil, false
		}
		s, plain := a.plain()
		switch {
		case len(a.parts) >= 1 && a.parts[0].base != none && exact && from == 0:
			out = append(out, folderOf(alternative{parts: a.parts[:1], weak: a.weak}, "")...)
		case plain && exact && (len(list) == 1 || ends):
			if from < 0 {
				from = max(0, len(s)+from)
			}
			if len(list) == 1 {
				to = len(s)
			} else if name == "substr" {
				to += from
			} else if to < 0 {
				to += len(s)
			}
			if from <= to && from <= len(s) {
				out = append(out, replaced(a, s, s[from:min(to, len(s))]))
			}
		default:
			out = append(out, alternative{parts: []part{unknownPart}})
		}
	}
	return out, true
}

func number(x value) (int, bool) {
	s, ok := x.only()
	if !ok {
		return 0, false
	}
	n, err := strconv.Atoi(s)
	return n, err == nil
}

// made is what new makes.
func (v *evaluator) made(e *js.NewExpr, in *frame) value {
	var list []js.Arg
	if e.Args != nil {
		list = e.Args.List
	}
	var out value
	for _, a := range v.value(e.X, in) {
		switch {
		case a.what == isGlobal && a.name == "URL" && len(list) == 1:
			out = append(out, v.text(list[0].Value, in)...)
		case a.what == isGlobal && a.name == "URL" && len(list) > 1:
			out = append(out, resolve(v.text(list[0].Value, in), v.text(list[1].Value, in))...)
		case a.what == isGlobal && (a.name == "Image" || a.name == "Audio"):
			out = append(out, v.builtin(a.name, list, in)...)
		case a.what == isGlobal && (a.name == "Request" || a.name == "String" || a.name == "Set"):
			out = append(out, v.first(list, in)...)
		case a.what == isObject:
			out = append(out, a)
		}
	}
	return out
}

// resolve is a name relative to an address, as new URL(name, address) resolves it (WHATWG URL, section 4).
func resolve(names, bases value) value {
	var out value
	for _, n := range names {
		for _, b := range bases {
			when, ok := both(n.when, b.when)
			if ok && len(out) < maxAlternatives {
				r := resolvedFrom(n, b)
				r.when = when
				out = append(out, r)
			}
		}
	}
	return out
}

func resolvedFrom(n, b alternative) alternative {
	name, address := n.texts(), b.texts()
	first := name[0]
	if first.base != none || first.known && first.from == "" && strings.Contains(first.text, "://") {
		return n
	}
	begin := address[0]
	switch {
	case first.known && first.from == "" && strings.HasPrefix(first.text, "/") && begin.base != none:
		switch begin.base {
		case page, pageFolder, pageRoot:
			begin = part{length: -1, known: true, base: pageRoot}
		case here, hereFolder, hereRoot:
			begin = part{length: -1, known: true, base: hereRoot}
		}
		address = nil
	case begin.base == page:
		begin.base = pageFolder
	case begin.base == here:
		begin.base = hereFolder
	case begin.base == none && (!begin.known || len(address) == 1 && !strings.HasSuffix(begin.text, "/")):
		begin, address = unknownPart, nil
	}
	parts := []part{begin}
	if len(address) > 1 {
		parts = append(parts, withoutName(address[1:])...)
	}
	return alternative{parts: append(parts, name...), weak: n.weak || b.weak, entry: n.entry || b.entry}
}

// withoutName cuts off what stands behind the last slash of an address.
func withoutName(rest []part) []part {
	out := append([]part(nil), rest...)
	last := &out[len(out)-1]
	if i := strings.LastIndexByte(last.text, '/'); last.known && i+1 < len(last.text) {
		last.text, last.fixed = last.text[:i+1], true
	}
	return out
}
