package rulebook

import (
	"encoding/json"
	"fmt"
	"slices"
	"strconv"
	"strings"
)

// A Pointer leads to a place in a JSON value (RFC 6901). The part * stands for every element of a list, so that there can be several.
type Pointer struct {
	source string
	parts  []string
}

// NewPointer reads a pointer; the error says what one looks like.
func NewPointer(source string) (Pointer, error) {
	rest, ok := strings.CutPrefix(source, "/")
	if !ok {
		return Pointer{}, fmt.Errorf("%q is no JSON pointer, such as \"/id\"", source)
	}
	p := Pointer{source, strings.Split(rest, "/")}
	for i := range p.parts {
		p.parts[i] = strings.NewReplacer("~1", "/", "~0", "~").Replace(p.parts[i])
	}
	return p, nil
}

// UnmarshalText implements encoding.TextUnmarshaler.
func (p *Pointer) UnmarshalText(source []byte) (err error) {
	*p, err = NewPointer(string(source))
	return err
}

// MarshalText implements encoding.TextMarshaler: it is what stands in the rulebook.
func (p Pointer) MarshalText() ([]byte, error) { return []byte(p.source), nil }

// String is what stands in the rulebook.
func (p Pointer) String() string { return p.source }

// Find returns what the pointer leads to in a value of encoding/json; nothing when there is nothing.
func (p Pointer) Find(v any) []any { return find(v, p.parts) }

func find(v any, parts []string) []any {
	found := []any{v}
	for _, part := range parts {
		var next []any
		for _, v := range found {
			next = append(next, child(v, part)...)
		}
		found = next
	}
	return found
}

func child(v any, part string) []any {
	switch v := v.(type) {
	case map[string]any:
		if inner, ok := v[part]; ok {
			return []any{inner}
		}
	case []any:
		if part == "*" {
			return v
		}
		if i, err := strconv.Atoi(part); err == nil && i >= 0 && i < len(v) {
			return v[i : i+1]
		}
	}
	return nil
}

// Texts returns what the pointer leads to, as texts; lists and objects, which have no such form, are "".
func (p Pointer) Texts(v any) []string {
	var texts []string
	for _, x := range p.Find(v) {
		texts = append(texts, textOf(x))
	}
	return texts
}

// textOf writes a JSON value as a person would.
func textOf(v any) string {
	switch v := v.(type) {
	case string:
		return v
	case json.Number:
		return v.String()
	case bool:
		return strconv.FormatBool(v)
	}
	return ""
}

// Beside returns the texts that two pointers lead to, side by side. Where both go through the elements of one list, those of an element
// belong together, also when it lacks one of them. The second may be the zero Pointer.
func (p Pointer) Beside(other Pointer, v any) [][2]string {
	var pairs [][2]string
	i, j := slices.Index(p.parts, "*"), slices.Index(other.parts, "*")
	if i < 0 || i != j || i+1 == len(p.parts) || j+1 == len(other.parts) || !slices.Equal(p.parts[:i], other.parts[:j]) {
		texts := []string{}
		if other.source != "" {
			texts = other.Texts(v)
		}
		for k, text := range p.Texts(v) {
			pair := [2]string{text}
			if k < len(texts) {
				pair[1] = texts[k]
			}
			pairs = append(pairs, pair)
		}
		return pairs
	}
	for _, element := range find(v, p.parts[:i+1]) {
		pair := [2]string{}
		for k, rest := range [][]string{p.parts[i+1:], other.parts[j+1:]} {
			if found := find(element, rest); len(found) > 0 {
				pair[k] = textOf(found[0])
			}
		}
		pairs = append(pairs, pair)
	}
	return pairs
}

// A Place is where a value is in an answer: a header field, or what a pointer leads to in its body.
type Place struct {
	Header string
	Body   Pointer
}

// UnmarshalText implements encoding.TextUnmarshaler.
func (p *Place) UnmarshalText(source []byte) (err error) {
	if field, ok := strings.CutPrefix(string(source), "header "); ok {
		*p = Place{Header: field}
		return nil
	}
	*p = Place{}
	if p.Body, err = NewPointer(string(source)); err != nil {
		return fmt.Errorf("%q is neither a JSON pointer, such as \"/id\", nor \"header NAME\"", source)
	}
	return nil
}

// MarshalText implements encoding.TextMarshaler: it is what stands in the rulebook.
func (p Place) MarshalText() ([]byte, error) { return []byte(p.String()), nil }

// String is what stands in the rulebook.
func (p Place) String() string {
	if p.Header != "" {
		return "header " + p.Header
	}
	return p.Body.source
}
