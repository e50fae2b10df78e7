package expression

import (
	"errors"
	"fmt"
	"reflect"
	"slices"
	"strings"
	"sync"

	"github.com/expr-lang/expr"
	"github.com/expr-lang/expr/ast"
	"github.com/expr-lang/expr/checker"
	"github.com/expr-lang/expr/conf"
	"github.com/expr-lang/expr/file"
	"github.com/expr-lang/expr/parser"
	"github.com/expr-lang/expr/types"
	"github.com/expr-lang/expr/vm"
)

// Names are the values that an expression can use, with their types.
type Names map[string]types.Type

// A Mistake is what is wrong with an expression.
type Mistake struct {
	Offset  int // in bytes, from the beginning of the expression
	Message string
	Name    string // that is not known; "" where the mistake is another one
}

// Error implements error.
func (m *Mistake) Error() string { return m.Message }

// New reads an expression. Check reports what is wrong with it.
func New(source string) *Formula {
	f := &Formula{source: source, program: sync.OnceValues(func() (*vm.Program, error) {
		return expr.Compile(source, append(functions(), expr.AllowUndefinedVariables())...)
	})}
	if strings.TrimSpace(source) == "" {
		f.broken = &Mistake{Message: "there is nothing between the braces; {{ stands for a brace itself"}
		return f
	}
	tree, err := parser.Parse(source)
	if err != nil {
		f.broken = mistake(source, err)
		return f
	}
	w := &walker{}
	ast.Walk(&tree.Node, w)
	f.names, f.uses, f.loops = w.names, w.uses(), w.loops
	return f
}

// walker finds names, and whether anything is gone through.
type walker struct {
	names []string
	at    []int
	own   []string // that the expression gives itself
	loops bool

	members []string // names with what is taken of them, as in to.track
	of      []string // the names that these begin with
}

// uses are the names, those of which only a member is used with that member.
func (w *walker) uses() []string {
	list := slices.Clone(w.members)
	for name, n := range counts(w.names) {
		if n > counts(w.of)[name] && !isFunction(name) {
			list = append(list, name)
		}
	}
	return list
}

func counts(list []string) map[string]int {
	n := map[string]int{}
	for _, name := range list {
		n[name]++
	}
	return n
}

// Visit implements ast.Visitor.
func (w *walker) Visit(n *ast.Node) {
	switch n := (*n).(type) {
	case *ast.IdentifierNode:
		w.names, w.at = append(w.names, n.Value), append(w.at, n.Location().From)
	case *ast.MemberNode:
		base, isName := n.Node.(*ast.IdentifierNode)
		if key, isText := n.Property.(*ast.StringNode); isName && isText {
			w.members, w.of = append(w.members, base.Value+"."+key.Value), append(w.of, base.Value)
		}
	case *ast.VariableDeclaratorNode:
		w.own = append(w.own, n.Name)
	case *ast.PredicateNode:
		w.loops = true
	}
}

// mistake brings an error of the library into our words.
func mistake(source string, err error) *Mistake {
	m := &Mistake{Message: err.Error()}
	var at *file.Error
	if errors.As(err, &at) {
		m.Message = at.Message
		runes := []rune(source)
		m.Offset = len(string(runes[:min(max(at.From, 0), len(runes))]))
	}
	m.Message, _, _ = strings.Cut(m.Message, "\n")
	return m
}

// Check reports what is wrong with an expression that can use these names; wanted is the type that it must have, nil for any.
func (f *Formula) Check(known Names, wanted reflect.Type) *Mistake {
	if f == nil {
		return nil
	}
	if f.broken != nil {
		return f.broken
	}
	tree, err := parser.Parse(f.source)
	if err != nil {
		return mistake(f.source, err)
	}
	w := &walker{}
	ast.Walk(&tree.Node, w)
	for i, name := range w.names {
		if _, ok := known[name]; !ok && !slices.Contains(w.own, name) && !isFunction(name) {
			return &Mistake{Offset: w.at[i], Name: name, Message: fmt.Sprintf("{%s} is not known there", name)}
		}
	}
	config := conf.CreateNew()
	for _, option := range append(functions(), expr.Env(types.Map(known))) {
		option(config)
	}
	for name := range config.Disabled {
		delete(config.Builtins, name)
	}
	config.Check()
	if tree, err = checker.ParseCheck(f.source, config); err != nil {
		return mistake(f.source, err)
	}
	is := tree.Node.Type()
	if wanted != nil && is != nil && is.Kind() != reflect.Interface && is != wanted {
		return &Mistake{Message: fmt.Sprintf("gives %s; it must give %s", inWords(is), inWords(wanted))}
	}
	f.gives = is
	return nil
}

// inWords says what a type is.
func inWords(t reflect.Type) string {
	switch {
	case t == reflect.TypeFor[File]():
		return "a file"
	case t.Kind() == reflect.Bool:
		return "true or false"
	case t.Kind() == reflect.String:
		return "a text"
	case t.Kind() == reflect.Map:
		return "an object"
	case t.Kind() == reflect.Slice:
		return "a list"
	}
	return "a number"
}

// Type is what an expression gives, once it was checked; nil where that isn't known.
func (f *Formula) Type() reflect.Type {
	return f.gives
}

// Words lists the texts that an expression compares a name with, as in state == "live" and state in ["live", "past"].
func (f *Formula) Words(name string) []string {
	if f == nil || f.broken != nil {
		return nil
	}
	tree, err := parser.Parse(f.source)
	if err != nil {
		return nil
	}
	v := &compared{name: name}
	ast.Walk(&tree.Node, v)
	return v.words
}

type compared struct {
	name  string
	words []string
}

// Visit implements ast.Visitor.
func (c *compared) Visit(n *ast.Node) {
	b, ok := (*n).(*ast.BinaryNode)
	if !ok || !slices.Contains([]string{"==", "!=", "in"}, b.Operator) {
		return
	}
	if left, ok := b.Left.(*ast.IdentifierNode); !ok || left.Value != c.name {
		return
	}
	switch right := b.Right.(type) {
	case *ast.StringNode:
		c.words = append(c.words, right.Value)
	case *ast.ArrayNode:
		for _, e := range right.Nodes {
			if s, ok := e.(*ast.StringNode); ok {
				c.words = append(c.words, s.Value)
			}
		}
	}
}

// strict makes it an error to ask an answer's object for a key that it doesn't have; ?. asks for one that may be missing.
type strict struct{}

// Visit implements ast.Visitor.
func (strict) Visit(n *ast.Node) {
	m, ok := (*n).(*ast.MemberNode)
	if !ok || m.Optional || m.Method {
		return
	}
	key, ok := m.Property.(*ast.StringNode)
	if of := m.Node.Type(); !ok || of != nil && of.Kind() != reflect.Interface {
		return
	}
	ast.Patch(n, &ast.CallNode{Callee: &ast.IdentifierNode{Value: "member"}, Arguments: []ast.Node{m.Node, key}})
}
