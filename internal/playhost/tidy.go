package playhost

import (
	"bytes"
	"encoding/json"
	"math"
	"slices"
	"strings"
	"unicode/utf8"
)

// Lengths of what an event says. Texts are counted in characters.
const (
	mostData   = 4 << 10 // bytes of one event
	mostText   = 300     // of a text in one that is longer
	mostWords  = 2000    // of an answer: the form takes as many
	mostNumber = 1e15
)

// tidied is what an event says, so that every reader takes it: JSON with texts in UTF-8, each name once, numbers that can be told apart,
// and no longer than is kept. What is no JSON at all is null.
func tidied(kind string, data json.RawMessage) json.RawMessage {
	if len(data) == 0 {
		return nil
	}
	var v any
	from := json.NewDecoder(bytes.NewReader(data)) // repairs UTF-8 and halves of characters; of names that come twice the last stays
	from.UseNumber()
	if from.Decode(&v) != nil {
		return json.RawMessage("null")
	}
	most := mostData
	if kind == "answer" {
		v, most = answerOf(v), 6*mostWords
	}
	if out := encoded(v); len(out) <= most {
		return out
	}
	return encoded(shortened(v))
}

// encoded is a value as JSON.
func encoded(v any) json.RawMessage {
	var out bytes.Buffer
	to := json.NewEncoder(&out)
	to.SetEscapeHTML(false)
	if err := to.Encode(numbered(v)); err != nil {
		return json.RawMessage("null") // nothing that was decoded
	}
	return bytes.TrimRight(out.Bytes(), "\n")
}

// numbered is a value in which numbers are of a size that programs tell apart.
func numbered(v any) any {
	switch v := v.(type) {
	case json.Number:
		if f, err := v.Float64(); err != nil || math.Abs(f) > mostNumber {
			return nil
		}
	case map[string]any:
		for name, inner := range v {
			v[name] = numbered(inner)
		}
	case []any:
		for i, inner := range v {
			v[i] = numbered(inner)
		}
	}
	return v
}

// answerOf is an answer: the question's number, and words.
func answerOf(v any) any {
	m, _ := v.(map[string]any)
	words, _ := m["answer"].(string)
	return map[string]any{"question": m["question"], "answer": cut(words, mostWords)}
}

// reported are the words of an event that a report reads; they stay when it is shortened.
var reported = []string{"event", "level", "won", "name", "value", "fps", "message", "file", "line", "column", "stack", "count", "cells"}

// shortened is an event that says too much, without what no report reads.
func shortened(v any) any {
	m, ok := v.(map[string]any)
	if !ok {
		return nil
	}
	for name, inner := range m {
		switch inner := inner.(type) {
		case string:
			most := mostText
			if name == "stack" {
				most *= 3
			}
			m[name] = cut(inner, most)
		case map[string]any, []any:
			delete(m, name)
			continue
		}
		if !slices.Contains(reported, name) {
			delete(m, name)
		}
	}
	return m
}

// cut is a text of so many characters at most.
func cut(text string, most int) string {
	if utf8.RuneCountInString(text) <= most {
		return text
	}
	var b strings.Builder
	n := 0
	for _, r := range text {
		if n++; n > most {
			break
		}
		b.WriteRune(r)
	}
	return b.String()
}
