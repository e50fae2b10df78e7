// Package settings reads the TOML files that people write for Havvel. It reads strictly: a key that
// nobody knows is an error with its place and the nearest key that is known. What the keys mean is
// left to the packages whose structs it fills.
package settings

import (
	"bytes"
	"errors"
	"fmt"
	"reflect"
	"regexp"
	"strings"

	"github.com/pelletier/go-toml/v2"
)

// A Problem is something wrong in a settings file.
type Problem struct {
	File         string
	Line, Column int // from 1; 0 when the place is not known
	Message      string
	Hint         string // what to do about it, may be empty
}

func (p *Problem) Error() string {
	place := p.File
	if p.Line > 0 {
		place = fmt.Sprintf("%s:%d:%d", p.File, p.Line, p.Column)
	}
	text := place + ": " + p.Message
	if p.Hint != "" {
		text += "\n  " + p.Hint
	}
	return text
}

// Read fills into, a pointer to a struct with toml tags, from data. file is the name for errors.
// Every error is a *Problem.
func Read(file string, data []byte, into any) error {
	decoder := toml.NewDecoder(bytes.NewReader(data)).DisallowUnknownFields()
	err := decoder.Decode(into)
	if err == nil {
		return nil
	}
	var unknown *toml.StrictMissingError
	if errors.As(err, &unknown) && len(unknown.Errors) > 0 {
		return unknownKey(file, unknown.Errors[0], into)
	}
	var broken *toml.DecodeError
	if errors.As(err, &broken) {
		line, column := broken.Position()
		return &Problem{File: file, Line: line, Column: column, Message: plain(broken.Error())}
	}
	return &Problem{File: file, Message: plain(err.Error())}
}

var wrongType = regexp.MustCompile(`cannot decode TOML (\w+) into struct field \S+ of type (\S+)`)

// plain takes the reader's own words out of a message.
func plain(message string) string {
	message = strings.TrimPrefix(message, "toml: ")
	return wrongType.ReplaceAllString(message, "this is of type $1; it must be of type $2")
}

func unknownKey(file string, e toml.DecodeError, into any) *Problem {
	line, column := e.Position()
	key := e.Key()
	known, at := keysBeside(reflect.TypeOf(into), key)
	p := &Problem{File: file, Line: line, Column: column}
	p.Message = fmt.Sprintf("there is no key %q", strings.Join(key[:at+1], "."))
	if near := Nearest(key[at], known); near != "" {
		p.Hint = fmt.Sprintf("did you mean %q?", near)
	} else if len(known) > 0 {
		p.Hint = "known here: " + strings.Join(known, ", ")
	}
	return p
}

// keysBeside follows key through t as far as it is known. It returns the keys known where it ends,
// and the index of the part that is not among them.
func keysBeside(t reflect.Type, key []string) (known []string, at int) {
	for i, part := range key {
		t = element(t)
		switch t.Kind() {
		case reflect.Map:
			t = t.Elem()
			continue
		case reflect.Struct:
		default:
			return nil, i
		}
		known = nil
		var next reflect.Type
		for _, k := range fields(t) {
			known = append(known, k.name)
			if k.name == part {
				next = k.t
			}
		}
		if next == nil {
			return known, i
		}
		t = next
	}
	return known, len(key) - 1
}

type field struct {
	name string
	t    reflect.Type
	tag  reflect.StructTag
}

func fields(t reflect.Type) []field {
	var list []field
	for i := range t.NumField() {
		f := t.Field(i)
		name, _, _ := strings.Cut(f.Tag.Get("toml"), ",")
		if name != "" && name != "-" {
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
