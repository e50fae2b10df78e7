package rulebook

import (
	"regexp"
	"slices"
	"strings"
)

// A Text is a text of a recipe: parts as they are, and between them the names of values, which stand in braces, such as {version}.
type Text struct {
	source string
	parts  []part
}

// part is a text as it is, or a value.
type part struct{ text, value string }

var braces = regexp.MustCompile(`\{([a-z][a-z0-9_.]*)\}`)

// NewText reads a text.
func NewText(source string) Text {
	t := Text{source: source}
	end := 0
	for _, m := range braces.FindAllStringSubmatchIndex(source, -1) {
		if m[0] > end {
			t.parts = append(t.parts, part{text: source[end:m[0]]})
		}
		t.parts = append(t.parts, part{value: source[m[2]:m[3]]})
		end = m[1]
	}
	if end < len(source) {
		t.parts = append(t.parts, part{text: source[end:]})
	}
	return t
}

// UnmarshalText implements encoding.TextUnmarshaler.
func (t *Text) UnmarshalText(source []byte) error {
	*t = NewText(string(source))
	return nil
}

// MarshalText implements encoding.TextMarshaler: it is what stands in the rulebook.
func (t Text) MarshalText() ([]byte, error) { return []byte(t.source), nil }

// String is what stands in the rulebook.
func (t Text) String() string { return t.source }

// Values lists the names of the values in it, in their order.
func (t Text) Values() []string {
	var list []string
	for _, p := range t.parts {
		if p.value != "" {
			list = append(list, p.value)
		}
	}
	return list
}

// Alone is the name of the value of which the text is nothing else; "" where it holds more.
func (t Text) Alone() string {
	if len(t.parts) == 1 {
		return t.parts[0].value
	}
	return ""
}

// Fill puts values in the place of their names. value is given a name, and the text before it, values and all.
func (t Text) Fill(value func(name, before string) string) string {
	var out strings.Builder
	for _, p := range t.parts {
		out.WriteString(p.text)
		if p.value != "" {
			out.WriteString(value(p.value, out.String()))
		}
	}
	return out.String()
}

// compiled has the texts in a JSON value read.
func compiled(v any) any {
	switch v := v.(type) {
	case string:
		return NewText(v)
	case map[string]any:
		return Body(v)
	case []any:
		list := make([]any, len(v))
		for i, inner := range v {
			list[i] = compiled(inner)
		}
		return list
	}
	return v
}

// Body reads the texts in a JSON object: each becomes a Text.
func Body(v map[string]any) map[string]any {
	out := make(map[string]any, len(v))
	for name, inner := range v {
		out[name] = compiled(inner)
	}
	return out
}

// Values lists the names of the values that stand in a step's texts, in alphabetical order.
func (s *Step) Values() []string {
	var list []string
	for _, t := range s.texts("") {
		list = append(list, t.Values()...)
	}
	slices.Sort(list)
	return slices.Compact(list)
}
