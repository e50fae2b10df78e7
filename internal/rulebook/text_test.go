package rulebook

import (
	"encoding/json"
	"fmt"
	"slices"
	"testing"
)

// TestText: values are put in the place of their names, and all else stays letter by letter.
func TestText(t *testing.T) {
	for source, want := range map[string]string{
		"{address}/games/{game.short}?v={version}": "A/games/lane?v=1",
		"{version}": "1", "": "", "a {b": "a {b", "{Version}": "{Version}", "}{version}{": "}1{", "{{version}}": "{1}",
	} {
		text := NewText(source)
		got := text.Fill(func(name, before string) string {
			return map[string]string{"address": "A", "game.short": "lane", "version": "1"}[name]
		})
		if got != want || text.String() != source {
			t.Errorf("%q: %q, want %q", source, got, want)
		}
		if alone := text.Alone(); (alone == "version") != (source == "{version}") {
			t.Errorf("%q is alone %q", source, alone)
		}
	}
	step := Step{Address: NewText("{b}/{a}"), JSON: Body(map[string]any{"x": []any{"{c}", 2}}), Parts: []Part{{Text: NewText("{a}")}}}
	if got := step.Values(); !slices.Equal(got, []string{"a", "b", "c"}) {
		t.Errorf("values %q", got)
	}
}

// TestPointer: what pointers lead to (RFC 6901, section 5), with * for every element.
func TestPointer(t *testing.T) {
	var v any
	document := `{"a/b":{"m~n":1},"list":[{"text":"dark","field":"title"},{"text":"small"}],"":{"":true}}`
	if err := json.Unmarshal([]byte(document), &v); err != nil {
		t.Fatal(err)
	}
	for source, want := range map[string]string{
		"/a~1b/m~0n": "[1]", "/list/0/text": "[dark]", "/list/*/text": "[dark small]", "/list/-1": "[]", "/list/2": "[]", "/none/x": "[]",
		"//": "[true]",
	} {
		p, err := NewPointer(source)
		if got := fmt.Sprint(p.Find(v)); err != nil || got != want {
			t.Errorf("%s: %s (%v), want %s", source, got, err, want)
		}
	}
	texts, _ := NewPointer("/list/*/text")
	fields, _ := NewPointer("/list/*/field")
	if got := fmt.Sprint(texts.Beside(fields, v), texts.Beside(Pointer{}, v)); got != "[[dark title] [small ]] [[dark ] [small ]]" {
		t.Error(got)
	}
	if _, err := NewPointer("list"); err == nil {
		t.Error("a pointer without its slash was taken")
	}
}

func FuzzPointer(f *testing.F) {
	f.Add(`{"a":[{"b":1},2]}`, "/a/*/b", "/a/*/c")
	f.Fuzz(func(t *testing.T, document, first, second string) {
		var v any
		p, err := NewPointer(first)
		q, other := NewPointer(second)
		if json.Unmarshal([]byte(document), &v) == nil && err == nil && other == nil {
			p.Beside(q, v)
		}
	})
}
