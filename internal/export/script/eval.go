package script

import (
	"slices"

	"github.com/tdewolff/parse/v2/js"

	"havvel/internal/export/link"
)

// An evaluator works out what expressions may be. It goes from where a text is used to where it comes from, and only there.
type evaluator struct {
	*index
	source []byte
	known  map[any]value // of expressions and variables, whatever is called
	active map[any]int   // what is being worked out, and how deep
	lowest int           // the level of the outermost that was met again
	steps  int           // that are left
	depth  int
}

// A frame holds the arguments of a call that is being followed.
type frame struct {
	function *function
	args     args
	caller   *frame // where the arguments are worked out
	depth    int
	outer    *frame // of the function that it stands in
}

// maxDepth of calls and variables that are followed from one text.
const maxDepth = 120

// maxFrames is how many calls within each other are followed with their own arguments.
const maxFrames = 8

func (v *evaluator) value(e js.IExpr, in *frame) value {
	if v.steps < -stepsOver {
		return nil
	}
	switch e := e.(type) { // what is quick need not be kept
	case nil:
		return nil
	case *js.GroupExpr:
		return v.value(e.X, in)
	case *js.LiteralExpr:
		return v.literal(e)
	case *js.FuncDecl, *js.ArrowFunc, *js.MethodDecl:
		return value{{what: isFunction, node: e, frame: in}}
	case *js.ClassDecl:
		return value{{what: isObject, node: e, frame: in}}
	case *js.ObjectExpr:
		return value{{what: isObject, node: e, frame: in}}
	case *js.ArrayExpr:
		return value{{what: isList, node: e, frame: in}}
	case *js.Var:
		if known, ok := v.known[e]; ok { // it stands for an entry of a list
			return known
		}
		return v.variable(e, in)
	}
	return v.once(e, in, func() value { return v.compound(e, in) })
}

// once works out what key stands for, and remembers it where nothing depends on the call that is followed. What meets itself on the way
// is not known there; what was worked out on such a way is only remembered when it is whole.
func (v *evaluator) once(key any, in *frame, work func() value) value {
	if in == nil {
		if known, ok := v.known[key]; ok {
			return known
		}
	}
	if level, ok := v.active[key]; ok {
		v.lowest = min(v.lowest, level)
		return nil
	}
	if v.depth > maxDepth || v.steps <= 0 && !v.cheap(key) {
		v.lowest = 0
		return nil
	}
	before, level := v.lowest, len(v.active)+1
	v.lowest = maxDepth * 100
	v.active[key] = level
	v.depth++
	out := work()
	v.depth--
	delete(v.active, key)
	v.steps -= 1 + len(out)
	if in == nil && v.lowest >= level {
		v.known[key] = out
	}
	v.lowest = min(before, v.lowest)
	return out
}

// cheap reports whether something is followed even where no work is left for anything else: texts that are put together, and variables that
// hold a text.
func (v *evaluator) cheap(key any) bool {
	switch e := key.(type) {
	case *js.BinaryExpr:
		return e.Op == js.AddToken
	case *js.TemplateExpr:
		return true
	case *js.Var:
		n := v.variables[e]
		return n != nil && n.owner == nil && len(n.set) < 4 && !slices.ContainsFunc(n.set, func(s setting) bool {
			switch from := bare(s.from).(type) {
			case *js.LiteralExpr, *js.BinaryExpr, *js.TemplateExpr, *js.ObjectExpr, *js.ArrayExpr:
				return false
			case *js.Var:
				return resolved(from) == e
			}
			return true
		})
	}
	return false
}

func (v *evaluator) literal(e *js.LiteralExpr) value {
	switch {
	case e.TokenType == js.StringToken && len(e.Data) >= 2:
		return value{{parts: []part{v.written(e.Data[1:len(e.Data)-1], e.Data[0])}}}
	case js.IsNumeric(e.TokenType):
		return known(string(e.Data))
	}
	return nil
}

// written is a part that stands in the source.
func (v *evaluator) written(inner []byte, quote byte) part {
	return part{text: unescaped(inner), at: offset(v.source, inner), length: len(inner), quote: quote, known: true}
}

func (v *evaluator) compound(e js.IExpr, in *frame) value {
	switch e := e.(type) {
	case *js.TemplateExpr:
		return v.template(e, in)
	case *js.BinaryExpr:
		return v.binary(e, in)
	case *js.CondExpr:
		return union(true, v.value(e.X, in), v.value(e.Y, in))
	case *js.CommaExpr:
		if len(e.List) > 0 {
			return v.value(e.List[len(e.List)-1], in)
		}
	case *js.UnaryExpr:
		if e.Op == js.AwaitToken {
			return v.value(e.X, in)
		}
	case *js.DotExpr:
		return v.dot(e, in)
	case *js.IndexExpr:
		return v.lookup(e, in)
	case *js.CallExpr:
		return v.call(e, in)
	case *js.NewExpr:
		return v.made(e, in)
	case *js.ImportMetaExpr:
		return value{{what: isGlobal, name: "import.meta"}}
	}
	return nil
}

// dot is a member by its name. One that is the origin of an address remembers where that stands.
func (v *evaluator) dot(e *js.DotExpr, in *frame) value {
	out := v.member(e.X, dotName(e), in)
	if len(out) != 1 || len(out[0].parts) != 1 || out[0].parts[0].base != origin || out[0].parts[0].length >= 0 {
		return out
	}
	y, ok := e.Y.(js.LiteralExpr)
	if !ok {
		return out
	}
	return value{{parts: []part{{known: true, base: origin, at: offset(v.source, y.Data), length: len(y.Data)}}}}
}

func (v *evaluator) template(e *js.TemplateExpr, in *frame) value {
	out := value{{parts: []part{}}}
	for i := range e.List {
		inner := e.List[i].Value
		if len(inner) < 3 {
			return nil
		}
		out = concat(out.orEmpty(), value{{parts: []part{v.written(inner[1:len(inner)-2], '`')}}})
		out = concat(out, v.text(e.List[i].Expr, in))
	}
	if len(e.Tail) < 2 {
		return nil
	}
	tail := value{{parts: []part{v.written(e.Tail[1:len(e.Tail)-1], '`')}}}
	if len(e.List) == 0 {
		return tail
	}
	return concat(out, tail)
}

// orEmpty is an empty text in place of a value without parts.
func (v value) orEmpty() value {
	if len(v) == 1 && len(v[0].parts) == 0 && v[0].what == isText {
		return known("")
	}
	return v
}

func (v *evaluator) binary(e *js.BinaryExpr, in *frame) value {
	switch e.Op {
	case js.AddToken:
		return concat(v.text(e.X, in), v.text(e.Y, in))
	case js.EqToken:
		return v.value(e.Y, in)
	case js.OrToken, js.NullishToken:
		x, y := v.value(e.X, in), v.value(e.Y, in)
		if index, ok := bare(e.X).(*js.IndexExpr); ok { // ({1: "a"}[key] || key)
			if o, ok := bare(index.X).(*js.ObjectExpr); ok && len(x) > 0 {
				if key, ok := bare(index.Y).(*js.Var); ok {
					return append(x[:len(x):len(x)], v.otherwise(y, e.Y, resolved(key), o)...)
				}
			}
		}
		if len(x) == 0 {
			for i := range y {
				y = append(value(nil), y...)
				y[i].weak = true
			}
			return y
		}
		return union(false, x, y)
	case js.AndToken:
		return v.value(e.Y, in)
	}
	return nil
}

// otherwise is what is taken where a table has no entry for a key.
func (v *evaluator) otherwise(y value, e js.IExpr, key *js.Var, o *js.ObjectExpr) value {
	if len(y) == 0 {
		p := unknownPart
		if other, ok := bare(e).(*js.Var); ok {
			p.holds = resolved(other)
		}
		y = value{{parts: []part{p}}}
	}
	out := make(value, len(y))
	for i, a := range y {
		if when, ok := both(a.when, []cond{{key: key, noneOf: o}}); ok {
			a.when = when
		}
		if other, ok := bare(e).(*js.Var); ok && a.what != isText {
			a = alternative{parts: []part{{text: link.Star, length: -1, holds: resolved(other)}}, when: a.when, weak: a.weak}
		}
		out[i] = a
	}
	return out
}

func bare(e js.IExpr) js.IExpr {
	for {
		g, ok := e.(*js.GroupExpr)
		if !ok {
			return e
		}
		e = g.X
	}
}

// text is the value of an expression as a part of a text: of a variable that is not known it remembers which.
func (v *evaluator) text(e js.IExpr, in *frame) value {
	out := v.value(e, in)
	if len(out) == 0 {
		p := unknownPart
		if x, ok := bare(e).(*js.Var); ok {
			p.holds = resolved(x)
		}
		return value{{parts: []part{p}}}
	}
	for _, a := range out {
		if a.what != isText {
			out = v.asText(out)
			if x, ok := bare(e).(*js.Var); ok {
				for i := range out {
					if p := out[i].parts; len(p) == 1 && !p[0].known {
						out[i].parts = []part{{text: p[0].text, length: -1, holds: resolved(x)}}
					}
				}
			}
			return out
		}
	}
	return out
}

// asText turns what is no text into one: a function without parameters is taken for the getter of one.
func (v *evaluator) asText(in value) value {
	var out value
	for _, a := range in {
		switch {
		case a.what == isText:
			out = append(out, a)
		case a.what == isFunction && v.functions[a.node] != nil && len(v.functions[a.node].params.List) == 0:
			for _, r := range v.result(a, args{}, nil) {
				if r.what == isText {
					r.weak = true
					out = append(out, r)
				}
			}
		case a.what == isGlobal:
			if b := addresses[a.name]; b != none {
				out = append(out, alternative{parts: []part{{length: -1, known: true, base: b}}, when: a.when})
				continue
			}
			out = append(out, alternative{parts: []part{unknownPart}, weak: a.weak, when: a.when})
		default:
			out = append(out, alternative{parts: []part{unknownPart}, weak: a.weak, when: a.when})
		}
	}
	return out
}
