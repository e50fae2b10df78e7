package script

import "github.com/tdewolff/parse/v2/js"

func (w *walker) statementList(list []js.IStmt) {
	for _, s := range list {
		w.statement(s)
	}
}

func (w *walker) block(b *js.BlockStmt) {
	if b != nil {
		w.statementList(b.List)
	}
}

func (w *walker) statement(s js.IStmt) {
	switch s := s.(type) {
	case *js.BlockStmt:
		w.block(s)
	case *js.ExprStmt:
		w.expression(s.Value)
	case *js.VarDecl:
		w.declaration(s)
	case *js.FuncDecl:
		w.expression(s)
		if s.Name != nil {
			w.set(s.Name, setting{how: is, from: s})
		}
	case *js.ClassDecl:
		w.expression(s)
	case *js.ReturnStmt:
		w.returns(s.Value)
	case *js.ThrowStmt:
		w.expression(s.Value)
	case *js.LabelledStmt:
		w.statement(s.Value)
	case *js.ImportStmt:
		w.imported(s)
	case *js.ExportStmt:
		w.exported(s)
	default:
		if !w.iteration(s) {
			w.branching(s)
		}
	}
}

func (w *walker) returns(e js.IExpr) {
	if n := len(w.into); n > 0 && e != nil && !dull(e) {
		w.into[n-1].returns = append(w.into[n-1].returns, e)
	}
	w.expression(e)
}

// branching goes through a statement whose parts run in some cases only.
func (w *walker) branching(s js.IStmt) {
	switch s := s.(type) {
	case *js.IfStmt:
		w.looks(s.Cond)
		w.under(s.Cond, func() {
			w.statement(s.Body)
			if s.Else != nil {
				w.statement(s.Else)
			}
		})
	case *js.SwitchStmt:
		w.expression(s.Init)
		for i := range s.List {
			w.expression(s.List[i].Cond)
			w.statementList(s.List[i].List)
		}
	case *js.TryStmt:
		w.block(s.Body)
		w.block(s.Catch)
		w.block(s.Finally)
	case *js.WithStmt:
		w.expression(s.Cond)
		w.statement(s.Body)
	}
}

// iteration goes through a loop. It is false for another statement.
func (w *walker) iteration(s js.IStmt) bool {
	switch s := s.(type) {
	case *js.ForStmt:
		w.expression(s.Init)
		w.expression(s.Cond)
		w.expression(s.Post)
		w.block(s.Body)
	case *js.ForInStmt:
		w.loop(s.Init, setting{how: keys, from: s.Value})
		w.expression(s.Value)
		w.block(s.Body)
	case *js.ForOfStmt:
		w.loop(s.Init, setting{how: each, from: s.Value})
		w.expression(s.Value)
		w.block(s.Body)
	case *js.WhileStmt:
		w.expression(s.Cond)
		w.statement(s.Body)
	case *js.DoWhileStmt:
		w.statement(s.Body)
		w.expression(s.Cond)
	default:
		return false
	}
	return true
}

// loop notes what a loop's variable takes from what is looped over.
func (w *walker) loop(init js.IExpr, s setting) {
	switch i := init.(type) {
	case *js.VarDecl:
		for _, b := range i.List {
			if v, ok := b.Binding.(*js.Var); ok {
				w.set(v, s)
			} else if s.how == each && b.Binding != nil { // for (const [key, value] of …)
				w.pairs(b.Binding, s.from)
			}
		}
	case *js.Var:
		w.set(i, s)
	}
}

// pairs notes what is taken out of each entry of a list.
func (w *walker) pairs(b js.IBinding, from js.IExpr) {
	stand := &js.Var{Data: []byte("entry"), Decl: js.LexicalDecl}
	w.set(stand, setting{how: each, from: from})
	w.bind(b, setting{how: is, from: stand})
}

func (w *walker) declaration(d *js.VarDecl) {
	for _, b := range d.List {
		if b.Binding != nil && b.Default != nil {
			w.bind(b.Binding, setting{how: is, from: b.Default})
		}
		w.decodes.holder, _ = b.Binding.(*js.Var)
		w.expression(b.Default)
		w.decodes.holder = nil
		w.defaults(b.Binding)
	}
}

// defaults walks through the expressions inside a pattern.
func (w *walker) defaults(b js.IBinding) {
	switch b := b.(type) {
	case *js.BindingArray:
		for _, e := range b.List {
			w.expression(e.Default)
			w.defaults(e.Binding)
		}
	case *js.BindingObject:
		for _, o := range b.List {
			w.expression(o.Value.Default)
			w.defaults(o.Value.Binding)
		}
	}
}
