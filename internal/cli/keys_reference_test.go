package cli

import (
	"encoding"
	"go/ast"
	"go/parser"
	"go/token"
	"path/filepath"
	"reflect"
	"strings"

	"havvel/internal/settings"
)

// A settingsKey is one line of a reference of a settings file.
type settingsKey struct {
	Path string // with dots, lists marked by [] and free names by NAME
	Type string // in words a reader of TOML knows
	Doc  string // the field's comment
}

// settingsKeys lists every key that v, a struct with toml tags, can be filled from.
func settingsKeys(v any) []settingsKey {
	return keysIn(reflect.TypeOf(v), "", map[reflect.Type]string{}, map[string]map[string]string{})
}

// commentsOn are the comments on the fields of a package's structs, by type and field.
func commentsOn(pkg string) map[string]string {
	folder := filepath.Join("..", strings.TrimPrefix(pkg, "havvel/internal/"))
	files, err := filepath.Glob(filepath.Join(folder, "*.go"))
	if err != nil {
		panic(err) // the pattern is one
	}
	comments := map[string]string{}
	for _, file := range files {
		tree, err := parser.ParseFile(token.NewFileSet(), file, nil, parser.ParseComments)
		if err != nil {
			panic(err) // it was compiled
		}
		ast.Inspect(tree, func(n ast.Node) bool {
			spec, ok := n.(*ast.TypeSpec)
			if !ok {
				return true
			}
			if s, ok := spec.Type.(*ast.StructType); ok {
				for _, f := range s.Fields.List {
					for _, name := range f.Names {
						comments[spec.Name.Name+"."+name.Name] = strings.Join(strings.Fields(f.Doc.Text()+f.Comment.Text()), " ")
					}
				}
			}
			return true
		})
	}
	return comments
}

// keysIn lists the keys of a struct. shown says where structs were listed already: they are not listed again.
func keysIn(t reflect.Type, prefix string, shown map[reflect.Type]string, comments map[string]map[string]string) []settingsKey {
	var list []settingsKey
	for _, f := range fields(t) {
		path := prefix + f.name
		if f.name == "*" {
			path = strings.TrimSuffix(prefix, ".")
		}
		inner := element(f.t)
		if f.t.Kind() == reflect.Slice && isTableOf(inner) {
			path += "[]"
		}
		if inner.Kind() == reflect.Map && isTableOf(element(inner.Elem())) {
			inner, path = element(inner.Elem()), path+".NAME"
		}
		if comments[f.pkg] == nil {
			comments[f.pkg] = commentsOn(f.pkg)
		}
		key := settingsKey{path, typeName(f.t), comments[f.pkg][f.holder+"."+f.field]}
		if before, ok := shown[inner]; ok {
			key.Doc += "; it has the keys of " + before
			list = append(list, key)
			continue
		}
		list = append(list, key)
		if isTableOf(inner) {
			shown[inner] = path
			list = append(list, keysIn(inner, path+".", shown, comments)...)
		}
	}
	return list
}

// isTableOf reports whether a type is a struct that a table fills.
func isTableOf(t reflect.Type) bool { return t.Kind() == reflect.Struct && !readsText(t) }

func readsText(t reflect.Type) bool {
	return reflect.PointerTo(t).Implements(reflect.TypeFor[encoding.TextUnmarshaler]())
}

func typeName(t reflect.Type) string {
	switch t {
	case reflect.TypeFor[settings.Size]():
		return "size"
	case reflect.TypeFor[settings.Span]():
		return "time"
	}
	if readsText(t) {
		return "text"
	}
	switch t.Kind() {
	case reflect.Pointer:
		return typeName(t.Elem())
	case reflect.Slice, reflect.Array:
		return "list of " + typeName(t.Elem()) + "s"
	case reflect.Map, reflect.Struct:
		return "table"
	case reflect.Bool:
		return "true or false"
	case reflect.Int, reflect.Int64:
		return "number"
	}
	return "text"
}

type field struct {
	name               string
	t                  reflect.Type
	pkg, holder, field string // where its comment is
}

// fields lists those of a struct that are keys, with those of structs embedded in it.
func fields(t reflect.Type) []field {
	var list []field
	for i := range t.NumField() {
		f := t.Field(i)
		if f.Anonymous {
			list = append(list, fields(f.Type)...)
		} else if name, _, _ := strings.Cut(f.Tag.Get("toml"), ","); name != "-" && name != "" {
			list = append(list, field{name, f.Type, t.PkgPath(), t.Name(), f.Name})
		}
	}
	return list
}

// element strips pointers and lists from a type.
func element(t reflect.Type) reflect.Type {
	for t.Kind() == reflect.Pointer || t.Kind() == reflect.Slice {
		t = t.Elem()
	}
	return t
}
