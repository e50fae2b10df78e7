package script

import (
	"bytes"

	"github.com/tdewolff/parse/v2/js"
)

// A walker goes through a script's tree once, fills the index, and lists what is to be evaluated.
type walker struct {
	*index
	facts   *facts
	into    []*function
	loads   []load
	texts   []js.IExpr // texts that are put together, or stand alone
	lookups []*js.IndexExpr
	keyed   bool // an object has a key that begins with a slash
	given   []give
	decodes decoding
	tests   []js.IExpr // that lead to where the walk is
	choices []choice
	kept    []js.IExpr // texts that are compared or cut, so that changing their beginning would change what the script does

	head     js.IExpr             // what is walked through next is looked into, and not handed on
	static   func(literal []byte) // gets what imports and exports name
	scope    *js.Scope            // of the whole script
	exports  map[string]js.IExpr
	isModule bool
}

// A load is a sink that was met.
type load struct {
	sink   *sink
	value  js.IExpr
	on     js.IExpr // the object whose property is set, or whose method is called
	callee js.IExpr // the name that decides whether it is one; nil when that is certain
	node   js.INode
}

func (w *walker) body(n js.INode, params *js.Params, list []js.IStmt) {
	f := w.function(n)
	holder := w.decodes.holder
	w.decodes.holder = nil
	defer func() { w.decodes.holder = holder }()
	w.into = append(w.into, f)
	w.inner = f
	w.parameters(f)
	for _, p := range params.List {
		w.expression(p.Default)
		w.defaults(p.Binding)
	}
	w.statementList(list)
	w.into = w.into[:len(w.into)-1]
	w.inner = nil
	if n := len(w.into); n > 0 {
		w.inner = w.into[n-1]
	}
}

func (w *walker) expression(e js.IExpr) { w.walk(e, false) }

// walk goes through an expression. within says that it is a part of a text that is put together.
func (w *walker) walk(e js.IExpr, within bool) {
	switch e := e.(type) {
	case nil:
	case *js.Var:
		w.facts.word(e.Data)
		w.takes(e)
		w.decodes.meets(w, e)
	case *js.LiteralExpr:
		w.literal(e, within)
	case *js.GroupExpr:
		w.walk(e.X, within)
	case *js.BinaryExpr:
		w.binary(e, within)
	case *js.TemplateExpr:
		w.template(e, within)
	case *js.CondExpr:
		w.looks(e.Cond)
		w.under(e.Cond, func() {
			w.walk(e.X, within)
			w.walk(e.Y, within)
		})
	case *js.CommaExpr:
		for i, x := range e.List {
			w.walk(x, within && i == len(e.List)-1)
		}
	case *js.CallExpr:
		w.called(e)
	case *js.NewExpr:
		w.made(e)
	default:
		if !w.access(e) {
			w.definition(e)
		}
	}
}

func (w *walker) literal(e *js.LiteralExpr, within bool) {
	w.decodes.number(w, e)
	if e.TokenType != js.StringToken {
		return
	}
	w.facts.text(e)
	w.chosen(e.Data[1 : len(e.Data)-1])
	if !within && bytes.ContainsAny(e.Data, "./<") {
		w.texts = append(w.texts, e)
	}
}

func (w *walker) template(e *js.TemplateExpr, within bool) {
	if !within && telltale(e, 0) {
		w.texts = append(w.texts, e)
	}
	if len(e.Tail) > 1 {
		w.chosen(e.Tail[1 : len(e.Tail)-1])
	}
	w.walk(e.Tag, true)
	for i := range e.List {
		w.walk(e.List[i].Expr, true)
	}
	if len(e.List) == 0 {
		w.facts.template(e)
	}
}

// access goes through an expression that takes something from others, or works on one. It is false for another one.
func (w *walker) access(e js.IExpr) bool {
	switch e := e.(type) {
	case *js.UnaryExpr:
		if e.Op == js.AwaitToken {
			w.walk(e.X, false)
		} else {
			w.looks(e.X)
		}
	case *js.YieldExpr:
		w.walk(e.X, false)
	case *js.DotExpr:
		w.takes(e)
		w.looks(e.X)
		if l, ok := e.Y.(js.LiteralExpr); ok {
			w.facts.word(l.Data)
		}
	case *js.IndexExpr:
		w.lookups = append(w.lookups, e)
		w.takes(e)
		if quotedKey(e) != nil {
			w.looks(e.X)
		} else {
			w.walk(e.X, false)
		}
		w.walk(e.Y, false)
	default:
		return false
	}
	return true
}

// definition goes through an expression that makes something: an object, a list, a function, a class, a variable.
func (w *walker) definition(e js.IExpr) {
	switch e := e.(type) {
	case *js.ObjectExpr:
		w.object(e)
	case *js.ArrayExpr:
		w.decodes.table(w, e)
		for _, x := range e.List {
			w.walk(x.Value, false)
		}
	case *js.FuncDecl:
		if e.Name != nil && e.Name.Decl == js.ExprDecl {
			w.set(e.Name, setting{how: is, from: e})
		}
		w.body(e, &e.Params, e.Body.List)
	case *js.ArrowFunc:
		w.body(e, &e.Params, e.Body.List)
	case *js.MethodDecl:
		w.body(e, &e.Params, e.Body.List)
	case *js.ClassDecl:
		w.class(e)
	case *js.VarDecl:
		w.declaration(e)
	}
}

// telltale reports whether a part of a text has a letter in it that names of files have.
func telltale(e js.IExpr, depth int) bool {
	switch e := e.(type) {
	case *js.LiteralExpr:
		return e.TokenType == js.StringToken && bytes.ContainsAny(e.Data, "./")
	case *js.GroupExpr:
		return telltale(e.X, depth)
	case *js.CondExpr:
		return telltale(e.X, depth) || telltale(e.Y, depth)
	case *js.BinaryExpr:
		return depth < 1000 && e.Op == js.AddToken && (telltale(e.Y, depth+1) || telltale(e.X, depth+1))
	case *js.TemplateExpr:
		for i := range e.List {
			if bytes.ContainsAny(e.List[i].Value, "./") {
				return true
			}
		}
		return bytes.ContainsAny(e.Tail, "./")
	}
	return false
}

func (w *walker) binary(e *js.BinaryExpr, within bool) {
	switch e.Op {
	case js.AddToken:
		if !within && telltale(e, 0) {
			w.texts = append(w.texts, e)
		}
		w.walk(e.X, true)
		w.walk(e.Y, true)
	case js.EqToken, js.OrEqToken, js.NullishEqToken, js.AndEqToken:
		w.assigned(e.X, setting{how: is, from: e.Y})
		w.target(e.X)
		holder := w.decodes.holder
		w.decodes.holder, _ = e.X.(*js.Var)
		w.walk(e.Y, within)
		w.decodes.holder = holder
	case js.AddEqToken:
		w.assigned(e.X, setting{how: adds, from: e.Y})
		w.target(e.X)
		w.walk(e.Y, false)
	case js.InToken:
		w.lookups = append(w.lookups, &js.IndexExpr{X: e.Y, Y: e.X})
		w.walk(e.X, false)
		w.walk(e.Y, false)
	case js.AndToken:
		w.looks(e.X)
		w.under(e.X, func() { w.walk(e.Y, within) })
	case js.OrToken, js.NullishToken:
		w.walk(e.X, within)
		w.under(e.X, func() { w.walk(e.Y, within) })
	case js.EqEqToken, js.EqEqEqToken, js.NotEqToken, js.NotEqEqToken:
		w.compared(e.X, e.Y)
		w.compared(e.Y, e.X)
		w.looks(e.X)
		w.looks(e.Y)
	default:
		w.looks(e.X)
		w.looks(e.Y)
	}
}

// compared notes what is compared with a text that begins with a slash.
func (w *walker) compared(x, with js.IExpr) {
	if l, ok := with.(*js.LiteralExpr); ok && rooted(l) {
		w.kept = append(w.kept, x, with)
	}
}

func rooted(l *js.LiteralExpr) bool {
	return l.TokenType == js.StringToken && len(l.Data) > 2 && l.Data[1] == '/'
}

// target walks through what is assigned to.
func (w *walker) target(e js.IExpr) {
	switch e := e.(type) {
	case *js.DotExpr, *js.IndexExpr:
		w.looks(e)
	}
}

// assigned notes an assignment.
func (w *walker) assigned(to js.IExpr, s setting) {
	switch to := to.(type) {
	case *js.Var:
		w.facts.word(to.Data)
		w.set(to, s)
		if s.how == is && w.global(to, "location") {
			w.load("location=", s.from, nil, to, to)
		}
	case *js.DotExpr:
		w.property(to, dotName(to), to.X, s)
	case *js.IndexExpr:
		if l, ok := to.Y.(*js.LiteralExpr); ok && l.TokenType == js.StringToken {
			w.property(to, unquoted(l.Data), to.X, s)
		}
	case *js.GroupExpr:
		w.assigned(to.X, s)
	case *js.ObjectExpr: // ({a, b} = c)
		for i := range to.List {
			if name, ok := nameOf(&to.List[i]); ok && s.how == is {
				if v, ok := to.List[i].Value.(*js.Var); ok {
					w.set(v, setting{how: property, from: s.from, key: name})
				}
			}
		}
	}
}

func (w *walker) property(node js.INode, name string, object js.IExpr, s setting) {
	if s.how == is {
		w.member(name, member{object: object, value: s.from})
	}
	w.load(name+"=", s.from, object, nil, node)
	if name == "location" || name == "href" && endsIn(object, "location") {
		w.load("location=", s.from, object, nil, node)
	}
}

// load notes that a value reaches a sink of that name.
func (w *walker) load(name string, value, on, callee js.IExpr, node js.INode) {
	for _, s := range byName[name] {
		if s.on == "" || endsIn(on, s.on) {
			w.loads = append(w.loads, load{s, value, on, callee, node})
		}
	}
}

// endsIn reports whether an expression ends in that name: it itself, or as a property of anything.
func endsIn(e js.IExpr, name string) bool {
	switch e := e.(type) {
	case *js.Var:
		return string(e.Name()) == name
	case *js.DotExpr:
		return dotName(e) == name
	}
	return false
}

// global reports whether a variable is the global one of that name.
func (w *walker) global(v *js.Var, name string) bool {
	r := resolved(v)
	return r.Decl == js.NoDecl && string(r.Data) == name
}
