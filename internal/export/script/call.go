package script

import (
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
		if passing[dotName(d)] {
			if out, ok := v.passed(d, list, in); ok {
				return out
			}
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
	case "fetch":
		return v.loaded(v.first(list, in))
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

// made is what new makes.
func (v *evaluator) made(e *js.NewExpr, in *frame) value {
	var list []js.Arg
	if e.Args != nil {
		list = e.Args.List
	}
	var out value
	for _, a := range v.value(e.X, in) {
		switch a.what {
		case isGlobal:
			out = append(out, v.madeOf(a.name, list, in)...)
		case isObject:
			out = append(out, a)
		}
	}
	return out
}

// madeOf is what the constructor of a global name makes.
func (v *evaluator) madeOf(name string, list []js.Arg, in *frame) value {
	switch name {
	case "URL":
		switch len(list) {
		case 0:
			return nil
		case 1:
			return v.text(list[0].Value, in)
		}
		return resolve(v.text(list[0].Value, in), v.text(list[1].Value, in))
	case "Image", "Audio":
		return v.builtin(name, list, in)
	case "Request", "String", "Set":
		return v.first(list, in)
	case "DecompressionStream":
		format, _ := v.first(list, in).only()
		return value{{what: isDecoder, name: format}}
	}
	if wrapping[name] {
		return v.spread(v.first(list, in)).bytes()
	}
	return nil
}
