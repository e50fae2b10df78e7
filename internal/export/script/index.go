package script

import (
	"github.com/tdewolff/parse/v2/js"
)

// An index says of a script what its variables and properties are set to, and where its functions are called.
type index struct {
	variables map[*js.Var]*variable
	members   map[string][]member    // what is put under a name, in any object
	named     map[named][]member     // of these, what is put under it in what a variable holds
	holders   map[js.INode][]*js.Var // variables that hold an object or a function
	functions map[js.INode]*function
	calls     map[*js.Var][]args // by the variable that is called
	methods   map[string][]args  // by the name of the property that is called
	lookups   map[*js.Var][]args // by the variable of the table in which the function is looked up
	imports   map[string]imported
	opened    map[*js.Var][]js.IExpr // addresses that a request in a variable is opened with
	inner     *function              // that is being read
	spare     []variable
	more      []function
}

// A variable is what one name stands for in its scope.
type variable struct {
	set   []setting
	owner *function // whose parameter it is, or nil
	param int       // which
}

// A setting is one way in which a variable gets a value.
type setting struct {
	how  how
	from js.IExpr
	key  string // of what is taken out of from
	at   int    // likewise

	within *function // where it stands; nil outside of functions
}

type how uint8

const (
	is       how = iota // the value of from
	adds                // from is put behind what it held
	each                // the entries of from, one after the other
	keys                // the keys of from
	property            // a property of from
	item                // an entry of from
)

// A member is what one property is set to.
type member struct {
	object js.IExpr // nil in an object's literal
	value  js.IExpr
	static bool // of a class
}

// named is a name in what a variable holds.
type named struct {
	in   *js.Var
	name string
}

// args are the arguments of a call; of one that a function of the language makes, where they come from.
type args struct {
	list    []js.Arg
	skip    int      // arguments before the first of the function, as in f.call(this, …)
	entries js.IExpr // a list whose entries are the first argument
}

// A function is one function of the script, and what is known of its calls.
type function struct {
	node    js.INode
	params  *js.Params
	returns []js.IExpr
	vars    []*js.Var // that hold it
	names   []string  // of properties that hold it
	tables  []*js.Var // that hold an object that holds it
	called  []args    // where it stands
	method  bool
	uses    []*js.Var // where it matters: the variables in it
}

type imported struct{ from, name string }

// maxCalls is how many calls of one name are told apart; a function that is called more often may be given anything.
const (
	maxCalls   = 100
	maxMethods = 40 // of one that is known by its name alone
)

// newIndex makes the index of a script of so many bytes.
func newIndex(bytes int) *index {
	return &index{
		variables: make(map[*js.Var]*variable, bytes/64), functions: make(map[js.INode]*function, bytes/256),
		members: map[string][]member{}, named: map[named][]member{}, holders: map[js.INode][]*js.Var{},
		calls: map[*js.Var][]args{}, methods: map[string][]args{}, lookups: map[*js.Var][]args{}, imports: map[string]imported{},
		opened: map[*js.Var][]js.IExpr{},
	}
}

// variable notes a variable. Many are made at once, which is less work than one after the other.
func (x *index) variable(v *js.Var) *variable {
	if len(x.spare) == 0 {
		x.spare = make([]variable, 256)
	}
	n := &x.spare[0]
	x.spare = x.spare[1:]
	x.variables[v] = n
	return n
}

func resolved(v *js.Var) *js.Var {
	for v.Link != nil {
		v = v.Link
	}
	return v
}

func (x *index) set(v *js.Var, s setting) {
	if s.from == nil || s.how == is && dull(s.from) {
		return
	}
	v = resolved(v)
	n := x.variables[v]
	if n == nil {
		n = x.variable(v)
	}
	s.within = x.inner
	n.set = append(n.set, s)
	if s.how == is {
		x.holds(s.from, v, "")
	}
}

// dull reports whether an expression can be no text, and nothing that leads to one.
func dull(e js.IExpr) bool {
	switch e := e.(type) {
	case *js.LiteralExpr:
		return e.TokenType != js.StringToken && e.TokenType != js.ThisToken
	case *js.UnaryExpr:
		return e.Op != js.AwaitToken
	case *js.BinaryExpr:
		switch e.Op {
		case js.AddToken, js.OrToken, js.AndToken, js.NullishToken, js.EqToken, js.AddEqToken:
			return false
		}
		return true
	}
	return false
}

// holds notes where functions are kept: what calls a variable or property calls them.
func (x *index) holds(e js.IExpr, v *js.Var, name string) {
	e = assigned(e)
	if v != nil {
		x.heldIn(e, v)
	}
	switch e := e.(type) {
	case *js.FuncDecl, *js.ArrowFunc, *js.MethodDecl:
		f := x.function(e)
		if v != nil {
			f.vars = append(f.vars, v)
		} else {
			f.names = append(f.names, name)
		}
	}
}

// assigned is what an expression gives that sets something on the way.
func assigned(e js.IExpr) js.IExpr {
	for {
		switch x := e.(type) {
		case *js.GroupExpr:
			e = x.X
			continue
		case *js.BinaryExpr:
			if x.Op == js.EqToken {
				e = x.Y
				continue
			}
		}
		return e
	}
}

// heldIn notes what a variable holds, and the functions in it.
func (x *index) heldIn(e js.IExpr, v *js.Var) {
	switch e := e.(type) {
	case *js.FuncDecl, *js.ArrowFunc:
		x.holders[e] = append(x.holders[e], v)
	case *js.ClassDecl:
		x.holders[e] = append(x.holders[e], v)
		for i := range e.List {
			m := e.List[i].Method
			if m == nil {
				continue
			}
			if n, ok := propertyName(&m.Name.PropertyName); ok && n == "constructor" {
				f := x.function(m)
				f.vars = append(f.vars, v)
			}
		}
	case *js.ObjectExpr:
		x.holders[e] = append(x.holders[e], v)
		for i := range e.List {
			switch value := e.List[i].Value.(type) {
			case *js.FuncDecl, *js.ArrowFunc, *js.MethodDecl:
				f := x.function(value)
				f.tables = append(f.tables, v)
			}
		}
	}
}

func (x *index) function(n js.INode) *function {
	f := x.functions[n]
	if f != nil {
		return f
	}
	if len(x.more) == 0 {
		x.more = make([]function, 128)
	}
	f = &x.more[0]
	x.more = x.more[1:]
	f.node = n
	switch n := n.(type) {
	case *js.FuncDecl:
		f.params = &n.Params
	case *js.ArrowFunc:
		f.params = &n.Params
	case *js.MethodDecl:
		f.params, f.method = &n.Params, true
	}
	x.functions[n] = f
	return f
}

// bind notes what a pattern takes out of a value.
func (x *index) bind(b js.IBinding, s setting) {
	switch b := b.(type) {
	case *js.Var:
		x.set(b, s)
	case *js.BindingArray:
		s = x.whole(s)
		for i, e := range b.List {
			if e.Binding != nil {
				x.bind(e.Binding, setting{how: item, from: s.from, at: i})
				x.fallback(e)
			}
		}
	case *js.BindingObject:
		s = x.whole(s)
		for _, o := range b.List {
			name := ""
			if o.Key != nil {
				name, _ = propertyName(o.Key)
			} else if v, ok := o.Value.Binding.(*js.Var); ok {
				name = string(v.Name())
			}
			if name != "" && o.Value.Binding != nil {
				x.bind(o.Value.Binding, setting{how: property, from: s.from, key: name})
				x.fallback(o.Value)
			}
		}
	}
}

// whole is a setting to a value, that of a variable without a name where a pattern stands within another.
func (x *index) whole(s setting) setting {
	if s.how == is {
		return s
	}
	stand := &js.Var{Data: []byte("part"), Decl: js.VariableDecl}
	x.set(stand, s)
	return setting{how: is, from: stand}
}

// fallback notes the value that a pattern gives where there is none.
func (x *index) fallback(e js.BindingElement) {
	if v, ok := e.Binding.(*js.Var); ok && e.Default != nil {
		x.set(v, setting{how: is, from: e.Default})
	}
}

// parameters notes the parameters of a function.
func (x *index) parameters(f *function) {
	for i, p := range f.params.List {
		v, ok := p.Binding.(*js.Var)
		if !ok {
			x.patterned(f, i, p)
			continue
		}
		v = resolved(v)
		n := x.variables[v]
		if n == nil {
			n = x.variable(v)
		}
		n.owner, n.param = f, i
		if p.Default != nil {
			x.set(v, setting{how: is, from: p.Default})
		}
	}
}

// patterned notes what a parameter's pattern takes out of an argument: f({src}) of what f is called with.
func (x *index) patterned(f *function, i int, p js.BindingElement) {
	stand := &js.Var{Data: []byte("argument"), Decl: js.ArgumentDecl}
	x.variables[stand] = &variable{owner: f, param: i}
	if p.Binding != nil {
		x.bind(p.Binding, setting{how: is, from: stand})
	}
}

func (x *index) member(name string, m member) {
	if name == "" || dull(m.value) {
		return
	}
	if v, ok := m.object.(*js.Var); ok {
		k := named{resolved(v), name}
		x.named[k] = append(x.named[k], m)
	}
	if len(x.members[name]) <= maxMembers {
		x.members[name] = append(x.members[name], m)
	}
	x.holds(m.value, nil, name)
}

// call notes a call by what is called.
func (x *index) call(callee js.IExpr, list []js.Arg) {
	a := args{list: list}
	for {
		if g, ok := callee.(*js.GroupExpr); ok {
			callee = g.X
			continue
		}
		if c, ok := callee.(*js.CommaExpr); ok && len(c.List) > 0 { // (0, f)(…)
			callee = c.List[len(c.List)-1]
			continue
		}
		break
	}
	if d, ok := callee.(*js.DotExpr); ok {
		switch name := dotName(d); name {
		case "call":
			a.skip = 1
			callee = d.X
		case "forEach", "map", "flatMap", "some", "every", "filter", "find":
			if len(list) > 0 {
				x.given(list[0].Value, args{entries: d.X})
			}
		case "then":
			if len(list) > 0 {
				x.given(list[0].Value, args{list: []js.Arg{{Value: d.X}}})
			}
		}
	}
	x.given(callee, a)
}

// given notes that a function is called with these arguments.
func (x *index) given(callee js.IExpr, a args) {
	switch c := callee.(type) {
	case *js.GroupExpr:
		x.given(c.X, a)
	case *js.FuncDecl, *js.ArrowFunc:
		f := x.function(c)
		f.called = append(f.called, a)
	case *js.Var:
		if v := resolved(c); v.Decl != js.NoDecl && len(x.calls[v]) < maxCalls {
			x.calls[v] = append(x.calls[v], a)
		}
	case *js.DotExpr:
		if name := dotName(c); len(x.methods[name]) < maxCalls {
			x.methods[name] = append(x.methods[name], a)
		}
	case *js.IndexExpr:
		if v, ok := c.X.(*js.Var); ok && len(x.lookups[resolved(v)]) < maxCalls {
			x.lookups[resolved(v)] = append(x.lookups[resolved(v)], a)
		}
	}
}

func dotName(d *js.DotExpr) string {
	switch y := d.Y.(type) {
	case js.LiteralExpr:
		return string(y.Data)
	case *js.Var: // private
		return string(y.Name())
	}
	return ""
}
