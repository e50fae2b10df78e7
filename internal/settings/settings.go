// Package settings reads the TOML files that people write for Havvel. It reads strictly: an unknown key, a value of another
// type and a number without its unit are mistakes, and all mistakes of a file are found at once, each with its place and the nearest
// word that is known. What the keys mean is left to the packages whose structs it fills; they report mistakes of meaning here, too.
package settings

import (
	"bytes"
	"cmp"
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strings"
	"unicode/utf8"

	"github.com/pelletier/go-toml/v2"

	"havvel/internal/fault"
)

// A Document is a settings file that was read: where its keys are, and what is wrong with it.
type Document struct {
	File string // as errors name it

	data   []byte
	texts  map[string]bool
	places map[string]int // offsets of values, by path
	faults []*fault.Error
	read   bool            // it is TOML
	unread map[string]bool // paths whose values are of another type
}

// Read fills into, a pointer to a struct with toml tags, from data, as far as that can be done. file is the name for errors.
//
// A path names a value: keys with dots between them, and the number of an element of a list, from 0, in brackets, as in
// "listing.control[0].keys[1]".
func Read(file string, data []byte, into any) *Document {
	d := &Document{
		File: file, data: bytes.TrimPrefix(data, []byte("\xef\xbb\xbf")),
		places: map[string]int{"": 0}, texts: map[string]bool{}, unread: map[string]bool{},
	}
	if utf16(data) {
		d.wrong(0, "it is stored as UTF-16").Then("save it again as UTF-8; the editor's save dialog has a choice of encodings")
		return d
	}
	var all map[string]any
	var broken *toml.DecodeError
	switch err := toml.Unmarshal(d.data, &all); {
	case errors.As(err, &broken):
		d.notTOML(broken)
		return d
	case err != nil:
		d.wrong(0, "it is not TOML: %s", strings.TrimPrefix(err.Error(), "toml: "))
		return d
	}
	d.read = true
	d.fill(into, d.tree())
	return d
}

// utf16 reports whether a file begins as text in UTF-16 does, with or without a byte-order mark.
func utf16(data []byte) bool {
	return bytes.HasPrefix(data, []byte("\xff\xfe")) || bytes.HasPrefix(data, []byte("\xfe\xff")) ||
		len(data) > 1 && (data[0] == 0) != (data[1] == 0)
}

// Paths of Windows in double quotes, where a backslash begins an escape.
var (
	drivePath = regexp.MustCompile(`"[A-Za-z]:\\[^\\]`)
	escape    = regexp.MustCompile(`"[^"]*\\[^\\]`)
)

const slashes = `in double quotes a backslash has a meaning of its own; write / instead, or use single quotes: 'C:\export'`

func (d *Document) notTOML(broken *toml.DecodeError) {
	row, column := broken.Position()
	f := &fault.Error{Kind: fault.Usage, At: fault.Position{File: d.File, Line: row, Column: column}}
	f.What = "this is not TOML: " + strings.TrimPrefix(broken.Error(), "toml: ")
	lines := bytes.Split(d.data, []byte("\n"))
	if row >= 1 && row <= len(lines) {
		if line := lines[row-1]; drivePath.Match(line) || escape.Match(line) {
			f.Next = slashes
		}
	}
	d.faults = append(d.faults, f)
}

// position is that of an offset. Columns count characters, as editors do.
func (d *Document) position(offset int) fault.Position {
	before := d.data[:min(offset, len(d.data))]
	return fault.Position{
		File: d.File, Line: bytes.Count(before, []byte("\n")) + 1,
		Column: utf8.RuneCount(before[bytes.LastIndexByte(before, '\n')+1:]) + 1,
	}
}

// wrong reports a mistake.
func (d *Document) wrong(offset int, format string, args ...any) *fault.Error {
	f := fault.New(fault.Usage, format, args...)
	f.At = d.position(offset)
	d.faults = append(d.faults, f)
	return f
}

// Says reports whether a text stands in the document as a value of its own.
func (d *Document) Says(text string) bool { return d.texts[text] }

// Broken reports whether the file could not be read as TOML at all, so that nothing was filled.
func (d *Document) Broken() bool { return !d.read }

// Has reports whether something is written at a path.
func (d *Document) Has(path string) bool {
	_, ok := d.places[path]
	return ok
}

// At is where the value of a path is written; of one that isn't there, where what would hold it begins.
func (d *Document) At(path string) fault.Position {
	for {
		if offset, ok := d.places[path]; ok {
			return d.position(offset)
		}
		path = path[:max(strings.LastIndexAny(path, ".["), 0)]
	}
}

var numbers = regexp.MustCompile(`\[\d+\]`)

// Wrong reports that something is wrong with the value of a path; the message goes on from its name.
func (d *Document) Wrong(path, format string, args ...any) *fault.Error {
	f := fault.New(fault.Usage, format, args...)
	f.What = strings.TrimSpace(numbers.ReplaceAllString(path, "") + " " + f.What)
	f.At = d.At(path)
	if !d.unread[path] { // that it is of another type is reported already
		d.faults = append(d.faults, f)
	}
	return f
}

// Inside reports a mistake in the middle of a text: offset bytes after where piece, a part of it, begins.
func (d *Document) Inside(path, piece string, offset int, format string, args ...any) *fault.Error {
	f := d.Wrong(path, format, args...)
	start, ok := d.places[path]
	if !ok {
		return f
	}
	if i := bytes.Index(d.data[start:], []byte(piece)); i >= 0 && piece != "" {
		f.At = d.position(start + i + offset)
	}
	return f
}

// Add reports an error that has words of its own; one that knows its place keeps it.
func (d *Document) Add(path string, err error) {
	if err == nil {
		return
	}
	for _, f := range fault.All(err) {
		if f.At.File == "" {
			f.Kind, f.At = fault.Usage, d.At(path)
		}
		d.faults = append(d.faults, f)
	}
}

// Within reports a word that is not one of those known; an empty one is none.
func (d *Document) Within(path, word string, known ...string) {
	if word == "" || slices.Contains(known, word) {
		return
	}
	if len(known) == 0 {
		d.Wrong(path, "is %q, but there is nothing here that it could be", word)
		return
	}
	f := d.Wrong(path, "is %q; it can be %s", word, strings.Join(known, ", "))
	if near := Nearest(word, known); near != "" {
		f.Then("did you mean %q?", near)
	}
}

// Each is Within for every word of a list.
func (d *Document) Each(path string, words []string, known ...string) {
	for i, word := range words {
		d.Within(fmt.Sprintf("%s[%d]", path, i), word, known...)
	}
}

// Must reports a text that is missing.
func (d *Document) Must(path, value string) bool {
	if value == "" {
		d.Wrong(path, "is missing")
	}
	return value != ""
}

// Err is all that was reported, in the order of the file; nil when nothing was.
func (d *Document) Err() error {
	slices.SortStableFunc(d.faults, func(a, b *fault.Error) int {
		return cmp.Or(cmp.Compare(a.At.File, b.At.File), cmp.Compare(a.At.Line, b.At.Line), cmp.Compare(a.At.Column, b.At.Column))
	})
	var list []error
	for _, f := range d.faults {
		list = append(list, f)
	}
	return errors.Join(list...)
}
