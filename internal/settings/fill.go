package settings

import (
	"encoding"
	"fmt"
	"math"
	"reflect"
	"strconv"
	"strings"
)

// fill fills a pointer to a struct from a table, and reports what doesn't fit.
func (d *Document) fill(into any, n *node) { d.table(reflect.ValueOf(into).Elem(), n, "") }

// table fills a struct.
func (d *Document) table(v reflect.Value, n *node, path string) {
	known := map[string][]int{}
	var names []string
	var rest reflect.Value                              // takes tables of some other names
	for _, f := range reflect.VisibleFields(v.Type()) { // those of embedded structs, too
		if name := nameOf(f); name == "*" {
			rest = v.FieldByIndex(f.Index)
		} else if name != "" {
			known[name] = f.Index
			names = append(names, name)
		}
	}
	for _, key := range n.keys {
		if index, ok := known[key]; ok {
			d.value(v.FieldByIndex(index), n.table[key], join(path, key))
			continue
		}
		if takes, ok := takerOf(rest); ok && takes.Takes(key) && n.table[key].kind == isTable {
			if rest.IsNil() {
				rest.Set(reflect.MakeMap(rest.Type()))
			}
			item := reflect.New(rest.Type().Elem()).Elem()
			d.value(item, n.table[key], join(path, key))
			rest.SetMapIndex(reflect.ValueOf(key), item)
			continue
		}
		f := d.wrong(n.at[key], "there is no key %q", numbers.ReplaceAllString(join(path, key), ""))
		if near := Nearest(key, names); near != "" {
			f.Then("did you mean %q?", near)
		} else {
			f.Then("known here: %s", strings.Join(names, ", "))
		}
	}
}

// A Taker is a map with the tag "*": it takes those tables of a struct that have no field of their own, where it knows their names.
type Taker interface{ Takes(key string) bool }

func takerOf(v reflect.Value) (t Taker, ok bool) {
	if !v.IsValid() {
		return nil, false
	}
	t, ok = v.Interface().(Taker)
	return t, ok
}

func nameOf(f reflect.StructField) string {
	name, _, _ := strings.Cut(f.Tag.Get("toml"), ",")
	if name == "-" {
		return ""
	}
	return name
}

// value fills any variable.
func (d *Document) value(v reflect.Value, n *node, path string) {
	if v.Kind() == reflect.Pointer {
		v.Set(reflect.New(v.Type().Elem()))
		v = v.Elem()
	}
	if u, ok := v.Addr().Interface().(encoding.TextUnmarshaler); ok {
		d.text(u, n, path)
		return
	}
	if v.Kind() == reflect.Interface {
		v.Set(reflect.ValueOf(n.free()))
		return
	}
	if want, ok := wants[v.Kind()]; !ok || !d.is(n, path, want) {
		return
	}
	switch v.Kind() {
	case reflect.Struct:
		d.table(v, n, path)
	case reflect.Map:
		d.mapping(v, n, path)
	case reflect.Slice, reflect.Array:
		d.list(v, n, path)
	case reflect.String:
		v.SetString(n.text)
	case reflect.Bool:
		v.SetBool(n.text == "true")
	case reflect.Int, reflect.Int64:
		d.number(v, n, path)
	}
}

// wants are the kinds of TOML that fill kinds of variables.
var wants = map[reflect.Kind]kind{
	reflect.Struct: isTable, reflect.Map: isTable, reflect.Slice: isList, reflect.Array: isList, reflect.String: isText,
	reflect.Bool: isBool, reflect.Int: isNumber, reflect.Int64: isNumber,
}

// is reports a value of another type than is wanted.
func (d *Document) is(n *node, path string, wanted kind) bool {
	if n.kind == wanted {
		return true
	}
	d.unread[path] = true
	f := d.wrong(n.offset, "%s is %s; it must be %s", numbers.ReplaceAllString(path, ""), n.kind, wanted)
	if n.kind != isTable && n.kind != isList {
		switch wanted {
		case isText:
			f.Then("write it in quotes: %q", n.text)
		case isList:
			f.Then("write it in brackets: [%s]", n.written())
		}
	}
	return false
}

// written is a scalar as it is written.
func (n *node) written() string {
	if n.kind == isText {
		return strconv.Quote(n.text)
	}
	return n.text
}

// text fills what reads a text itself. A number where a size or time belongs is given to it, too: it says which unit is missing.
func (d *Document) text(u encoding.TextUnmarshaler, n *node, path string) {
	withUnit := false
	switch u.(type) {
	case *Size, *Span:
		withUnit = n.kind == isNumber || n.kind == isFloat
	}
	if !withUnit && !d.is(n, path, isText) {
		return
	}
	if err := u.UnmarshalText([]byte(n.text)); err != nil {
		d.wrong(n.offset, "%s: %w", numbers.ReplaceAllString(path, ""), err)
	}
}

func (d *Document) number(v reflect.Value, n *node, path string) {
	i, err := strconv.ParseInt(n.text, 0, 64)
	if err != nil || v.OverflowInt(i) {
		d.wrong(n.offset, "%s is %s, which is too large", numbers.ReplaceAllString(path, ""), n.text)
		return
	}
	v.SetInt(i)
}

func (d *Document) mapping(v reflect.Value, n *node, path string) {
	v.Set(reflect.MakeMap(v.Type()))
	for _, key := range n.keys {
		item := reflect.New(v.Type().Elem()).Elem()
		d.value(item, n.table[key], join(path, key))
		v.SetMapIndex(reflect.ValueOf(key), item)
	}
}

func (d *Document) list(v reflect.Value, n *node, path string) {
	if v.Kind() == reflect.Array && len(n.list) != v.Len() {
		d.wrong(n.offset, "%s has %d elements; it must have %d", numbers.ReplaceAllString(path, ""), len(n.list), v.Len())
		return
	}
	if v.Kind() == reflect.Slice {
		v.Set(reflect.MakeSlice(v.Type(), len(n.list), len(n.list)))
	}
	for i, inner := range n.list {
		d.value(v.Index(i), inner, fmt.Sprintf("%s[%d]", path, i))
	}
}

// free is a value of whatever type it is written with: string, bool, int64, float64, []any or map[string]any.
func (n *node) free() any {
	switch n.kind {
	case isBool:
		return n.text == "true"
	case isNumber:
		if i, err := strconv.ParseInt(n.text, 0, 64); err == nil {
			return i
		}
	case isFloat:
		if f, err := strconv.ParseFloat(strings.ReplaceAll(n.text, "_", ""), 64); err == nil {
			return f
		}
		return math.NaN()
	case isList:
		list := make([]any, len(n.list))
		for i, inner := range n.list {
			list[i] = inner.free()
		}
		return list
	case isTable:
		m := map[string]any{}
		for _, key := range n.keys {
			m[key] = n.table[key].free()
		}
		return m
	}
	return n.text
}
