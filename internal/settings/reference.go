package settings

import (
	"encoding"
	"reflect"
)

// A Key is one line of a reference of a settings file.
type Key struct {
	Path string // with dots, lists marked by [] and free names by NAME
	Type string // in words a reader of TOML knows
	Doc  string // from the field's doc tag
}

// Keys lists every key that v, a struct with toml and doc tags, can be filled from.
func Keys(v any) []Key {
	return keysOf(reflect.TypeOf(v), "", map[reflect.Type]string{})
}

// keysOf lists the keys of a struct. shown says where structs were listed already: they are not listed again.
func keysOf(t reflect.Type, prefix string, shown map[reflect.Type]string) []Key {
	var list []Key
	for _, f := range fields(t) {
		path := prefix + f.name
		inner := element(f.t)
		if f.t.Kind() == reflect.Slice && isTableOf(inner) {
			path += "[]"
		}
		if inner.Kind() == reflect.Map && isTableOf(element(inner.Elem())) {
			inner, path = element(inner.Elem()), path+".NAME"
		}
		key := Key{path, typeName(f.t), f.tag.Get("doc")}
		if before, ok := shown[inner]; ok {
			key.Doc += "; it has the keys of " + before
			list = append(list, key)
			continue
		}
		list = append(list, key)
		if isTableOf(inner) {
			shown[inner] = path
			list = append(list, keysOf(inner, path+".", shown)...)
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
	case reflect.TypeFor[Size]():
		return "size"
	case reflect.TypeFor[Span]():
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
	name string
	t    reflect.Type
	tag  reflect.StructTag
}

func fields(t reflect.Type) []field {
	var list []field
	for _, f := range reflect.VisibleFields(t) {
		if name := nameOf(f); name != "" {
			list = append(list, field{name, f.Type, f.Tag})
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
