package tests

import (
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"path"
	"path/filepath"
	"strings"
	"testing"
)

// What one may have to read at once.
const (
	mostLines  = 60  // of a function
	mostPaths  = 15  // its cyclomatic complexity, with the functions in it
	mostOfFile = 450 // lines
)

// sources calls see for each of our Go files.
func sources(t *testing.T, tests bool, see func(file string, set *token.FileSet, tree *ast.File)) {
	t.Helper()
	set := token.NewFileSet()
	err := filepath.WalkDir("..", func(file string, d fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		if d.IsDir() && (d.Name() == "testdata" || strings.HasPrefix(d.Name(), ".") && d.Name() != "..") {
			return filepath.SkipDir
		}
		if !strings.HasSuffix(file, ".go") || !tests && strings.HasSuffix(file, "_test.go") {
			return nil
		}
		tree, err := parser.ParseFile(set, file, nil, parser.SkipObjectResolution)
		if err == nil {
			see(file, set, tree)
		}
		return err
	})
	if err != nil {
		t.Fatal(err)
	}
}

// TestShape: functions and files stay short enough to be read in one sitting.
func TestShape(t *testing.T) {
	sources(t, false, func(file string, set *token.FileSet, tree *ast.File) {
		if n := set.Position(tree.End()).Line; n > mostOfFile {
			t.Errorf("%s has %d lines, more than %d", file, n, mostOfFile)
		}
		for _, d := range tree.Decls {
			f, ok := d.(*ast.FuncDecl)
			if !ok || f.Body == nil {
				continue
			}
			at := set.Position(f.Pos())
			if n := set.Position(f.End()).Line - at.Line + 1; n > mostLines {
				t.Errorf("%s: %s has %d lines, more than %d", at, f.Name.Name, n, mostLines)
			}
			if n := paths(f.Body); n > mostPaths {
				t.Errorf("%s: %s has a cyclomatic complexity of %d, more than %d", at, f.Name.Name, n, mostPaths)
			}
		}
	})
}

// paths is the cyclomatic complexity of a function's body: one, and one more for each branch.
func paths(body ast.Node) int {
	n := 1
	ast.Inspect(body, func(x ast.Node) bool {
		switch x := x.(type) {
		case *ast.IfStmt, *ast.ForStmt, *ast.RangeStmt:
			n++
		case *ast.CaseClause:
			if x.List != nil {
				n++
			}
		case *ast.CommClause:
			if x.Comm != nil {
				n++
			}
		case *ast.BinaryExpr:
			if x.Op == token.LAND || x.Op == token.LOR {
				n++
			}
		}
		return true
	})
	return n
}

// TestExported: a function or variable that a package shows is used by another one, or by its own tests; so is a type, or it is a part of
// what the package shows. Methods are not looked at: many are there for an interface, or for templates.
func TestExported(t *testing.T) {
	type name struct{ room, name string }
	shown, used := map[name]token.Position{}, map[name]bool{}
	sources(t, true, func(file string, set *token.FileSet, tree *ast.File) {
		room := "havvel/" + strings.TrimPrefix(filepath.ToSlash(filepath.Dir(file)), "../")
		rooms := map[string]string{} // by the name that the file has for them
		for _, i := range tree.Imports {
			other := strings.Trim(i.Path.Value, `"`)
			as := path.Base(other)
			if i.Name != nil {
				as = i.Name.Name
			}
			rooms[as] = other
		}
		ast.Inspect(tree, func(x ast.Node) bool {
			if s, ok := x.(*ast.SelectorExpr); ok {
				if of, ok := s.X.(*ast.Ident); ok && rooms[of.Name] != "" {
					used[name{rooms[of.Name], s.Sel.Name}] = true
				}
			}
			return true
		})
		if strings.HasSuffix(file, "_test.go") {
			ast.Inspect(tree, func(x ast.Node) bool {
				if i, ok := x.(*ast.Ident); ok {
					used[name{room, i.Name}] = true
				}
				return true
			})
		}
		if !strings.HasPrefix(room, "havvel/internal/") || strings.HasSuffix(file, "_test.go") {
			return
		}
		for _, d := range tree.Decls {
			for _, x := range declared(d) {
				if x.IsExported() && !strings.HasPrefix(x.Name, "Err") {
					shown[name{room, x.Name}] = set.Position(x.Pos())
				}
			}
			partsOf(d, func(x *ast.Ident) { used[name{room, x.Name}] = true })
		}
	})
	for n, at := range shown {
		if !used[n] {
			t.Errorf("%s: no other package uses %s.%s", at, path.Base(n.room), n.name)
		}
	}
	if len(shown) == 0 {
		t.Fatal("no names were found")
	}
}

// declared are the names of a declaration at the top of a file, without methods and constants, which stand in lists.
func declared(d ast.Decl) (list []*ast.Ident) {
	switch d := d.(type) {
	case *ast.FuncDecl:
		if d.Recv == nil {
			list = append(list, d.Name)
		}
	case *ast.GenDecl:
		for _, s := range d.Specs {
			switch s := s.(type) {
			case *ast.TypeSpec:
				list = append(list, s.Name)
			case *ast.ValueSpec:
				if d.Tok == token.VAR {
					list = append(list, s.Names...)
				}
			}
		}
	}
	return list
}

// partsOf calls see for each type that a declaration shows as a part of it: in a signature, a field, or as an error.
func partsOf(d ast.Decl, see func(*ast.Ident)) {
	look := func(n ast.Node) {
		ast.Inspect(n, func(x ast.Node) bool {
			if i, ok := x.(*ast.Ident); ok {
				see(i)
			}
			return true
		})
	}
	switch d := d.(type) {
	case *ast.FuncDecl:
		if d.Name.IsExported() {
			look(d.Type)
		}
		if d.Recv != nil && d.Name.Name == "Error" {
			look(d.Recv)
		}
	case *ast.GenDecl:
		for _, s := range d.Specs {
			switch s := s.(type) {
			case *ast.TypeSpec:
				look(s.Type)
				if f, ok := s.Type.(*ast.StructType); ok && len(f.Fields.List) > 0 && f.Fields.List[0].Tag != nil {
					see(s.Name) // programs read it
				}
				if _, ok := s.Type.(*ast.InterfaceType); ok {
					see(s.Name) // others have its methods
				}
			case *ast.ValueSpec:
				look(s)
			}
		}
	}
}
