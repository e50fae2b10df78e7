package draft

import (
	"slices"
	"strconv"
	"strings"
	"unicode"

	"havvel/internal/inwords"
	"havvel/internal/rulebook"
)

// A field is a property of a schema.
type field struct {
	name     string
	schema   node
	required bool
}

// fields are the properties of a schema, also of those that it is composed of, in the order of their names.
func fields(s node) []field { return fieldsOf(s, deepest) }

// deepest is how far schemas are followed into each other; they may be circular.
const deepest = 6

func fieldsOf(s node, depth int) []field {
	var list []field
	properties, required := s.at("properties"), s.at("required").texts()
	for _, name := range properties.keys() {
		list = append(list, field{name, properties.at(name), slices.Contains(required, name)})
	}
	if depth > 0 {
		for _, of := range s.at("allOf").list() {
			list = append(list, fieldsOf(of, depth-1)...)
		}
	}
	slices.SortFunc(list, func(x, y field) int { return strings.Compare(x.name, y.name) })
	return slices.CompactFunc(list, func(x, y field) bool { return x.name == y.name })
}

// snake is a name as names of values are written.
func snake(name string) string {
	var b strings.Builder
	for i, c := range name {
		switch {
		case unicode.IsUpper(c) && i > 0 && !strings.HasSuffix(b.String(), "_"):
			b.WriteByte('_')
			fallthrough
		case unicode.IsLetter(c), unicode.IsDigit(c):
			b.WriteRune(unicode.ToLower(c))
		default:
			b.WriteByte('_')
		}
	}
	return strings.Trim(b.String(), "_")
}

// value is what stands for a name in an address or a body: something that is known of the game, or a value that each destination names.
func (d *description) value(name string, p node) string {
	return d.asked(name, p.at("description").text(), p.at("schema"))
}

func (d *description) asked(name, says string, s node) string {
	low := snake(name)
	if versionWords.MatchString(name) {
		return "version"
	}
	if known := knownFields[low]; known != "" {
		return known
	}
	if strings.Contains(low, "sha256") {
		return "archive.sha256"
	}
	v := rulebook.Value{Name: low, Says: sentence(says, name)}
	v.OneOf, v.Default = s.at("enum").texts(), s.at("default").text()
	if !slices.ContainsFunc(d.rules.Values, func(o rulebook.Value) bool { return o.Name == low }) {
		d.rules.Values = append(d.rules.Values, v)
	}
	return "to." + low
}

// knownFields are values that Havvel knows, by what descriptions call them.
var knownFields = map[string]string{
	"title": "game.title", "game_title": "game.title",
	"slug": "game.short", "game_slug": "game.short", "short_name": "game.short",
	"checksum": "archive.sha256", "digest": "archive.sha256",
	"size": "archive.bytes", "bytes": "archive.bytes", "file_size": "archive.bytes", "content_length": "archive.bytes",
	"filename": "archive.name", "file_name": "archive.name",
}

func sentence(says, name string) string {
	first, _, _ := strings.Cut(strings.TrimSpace(says), "\n")
	if first = inwords.Clean(strings.TrimSuffix(first, ".")); first == "" {
		return "the " + name + " that the portal's interface asks for"
	}
	return first
}

// body is what a request says beside a file.
func (d *description) body(o operation, s *step) {
	content := o.at("requestBody", "content")
	if raw, part := o.takesFile(); part != "" {
		for _, f := range fields(content.at("multipart/form-data", "schema")) {
			switch {
			case f.name == part:
				s.Parts = append(s.Parts, []pair{{"name", quoted(f.name)}, {"file", `"archive"`}})
			case f.required || versionWords.MatchString(f.name):
				text := d.asked(f.name, f.schema.at("description").text(), f.schema)
				s.Parts = append(s.Parts, []pair{{"name", quoted(f.name)}, {"text", quoted("{" + text + "}")}})
			}
		}
		return
	} else if raw {
		for _, name := range content.keys() {
			if !strings.Contains(name, "*") {
				s.Pairs = append(s.Pairs, pair{"headers", table([]pair{{"Content-Type", quoted(name)}})})
			}
		}
		s.Pairs = append(s.Pairs, pair{"file", `"archive"`})
		return
	}
	var pairs []pair
	for _, f := range fields(content.at("application/json", "schema")) {
		if f.required || versionWords.MatchString(f.name) {
			pairs = append(pairs, pair{f.name, d.json(f, deepest)})
		}
	}
	if len(pairs) > 0 {
		s.Pairs = append(s.Pairs, pair{"json", table(pairs)})
	}
}

// json is a field of a body, and what it holds down to a depth.
func (d *description) json(f field, depth int) string {
	switch {
	case f.schema.is("boolean"):
		return strconv.FormatBool(f.schema.at("default").text() == "true")
	case f.schema.is("object"):
		var pairs []pair
		for _, in := range fields(f.schema) {
			if in.required && depth > 0 {
				pairs = append(pairs, pair{in.name, d.json(in, depth-1)})
			}
		}
		return table(pairs)
	case f.schema.is("array"):
		return "[]"
	}
	name := d.asked(f.name, f.schema.at("description").text(), f.schema)
	if f.schema.is("integer") && !strings.HasPrefix(name, "archive.") {
		return quoted("{int(" + name + ")}")
	}
	return quoted("{" + name + "}")
}

// answers are the statuses that mean yes, and the schema of the first; refused is told where reasons are.
func (d *description) answers(o operation) (expect []int, yes node) {
	responses := o.at("responses")
	for _, code := range responses.keys() {
		s, content := node{}, responses.at(code, "content")
		for _, name := range content.keys() {
			if strings.Contains(name, "json") {
				s = content.at(name, "schema")
			}
		}
		if status, err := strconv.Atoi(code); err != nil || status < 200 || status > 299 {
			d.reasons(s)
		} else if expect = append(expect, status); s.value != nil {
			yes = s
		}
	}
	if len(expect) == 0 {
		expect = []int{200}
	}
	return expect, yes
}

// reasons finds where an answer says why not.
func (d *description) reasons(s node) {
	for _, f := range fields(s) {
		switch f.name {
		case "error", "message", "detail", "reason", "error_description":
			if f.schema.is("string") || f.schema.at("type").value == nil {
				d.rules.Words = append(d.rules.Words, "/"+f.name)
				continue
			}
			for _, in := range fields(f.schema) {
				if in.name == "message" || in.name == "detail" {
					d.rules.Words = append(d.rules.Words, "/"+f.name+"/"+in.name)
				}
			}
		case "errors", "reasons", "problems":
			if f.schema.is("array") {
				at := "$." + f.name + "[*]"
				for _, in := range fields(f.schema.at("items")) {
					if in.name == "message" || in.name == "detail" {
						at += "." + in.name
					}
				}
				d.rules.Words = append(d.rules.Words, at)
			}
		}
	}
}

// taken finds values in an answer by their names, down to its second level. The first of a name counts.
func (d *description) taken(s node, at string, depth int, into map[string]string) {
	note := func(name, place string) {
		if into[name] == "" {
			into[name] = at + "/" + place
		}
	}
	list := fields(s)
	for _, f := range list {
		switch {
		case f.name == d.idName:
			into["id"] = at + "/" + f.name
		case idWords.MatchString(snake(f.name)):
			note("id", f.name)
		case stateWords.MatchString(f.name):
			note("state", f.name)
			for _, word := range f.schema.at("enum").texts() {
				if !slices.Contains(d.states, word) {
					d.states = append(d.states, word)
				}
			}
		case linkWords.MatchString(snake(f.name)):
			note("link", f.name)
		}
	}
	for _, f := range list {
		if depth < 2 && f.schema.is("object") {
			d.taken(f.schema, at+"/"+f.name, depth+1, into)
		}
	}
}
