// Package expression reads and works out the expressions that stand in a rulebook: in texts between braces, and alone where a step
// decides something. They have no side effects. Which names there are is said by who asks; an expression that uses another one, or
// puts values of the wrong type together, is a mistake that is found before anything is sent.
package expression

import (
	"bytes"
	"encoding/json"
	"fmt"
	"math"
	"reflect"
	"strconv"
	"strings"
	"time"

	"github.com/expr-lang/expr"
	"github.com/expr-lang/expr/vm"
)

// Values are what the names in an expression stand for.
type Values map[string]any

// UnmarshalJSON implements json.Unmarshaler. Numbers are read as Exact has them.
func (v *Values) UnmarshalJSON(data []byte) error {
	d := json.NewDecoder(bytes.NewReader(data))
	d.UseNumber()
	var all map[string]any
	if err := d.Decode(&all); err != nil {
		return err
	}
	*v, _ = Exact(all).(map[string]any)
	return nil
}

// Exact turns the json.Numbers in a value into int and float64 where nothing is lost; others stay.
func Exact(v any) any {
	switch v := v.(type) {
	case json.Number:
		if i, err := strconv.ParseInt(v.String(), 10, 64); err == nil && strconv.FormatInt(i, 10) == v.String() {
			return int(i)
		}
		if f, err := v.Float64(); err == nil && !math.IsInf(f, 0) && strconv.FormatFloat(f, 'f', -1, 64) == v.String() {
			return f
		}
	case map[string]any:
		for key, inner := range v {
			v[key] = Exact(inner)
		}
	case []any:
		for i, inner := range v {
			v[i] = Exact(inner)
		}
	}
	return v
}

// A Formula is one expression.
type Formula struct {
	source  string
	names   []string                    // of the values that it uses, without what comes after a dot
	uses    []string                    // likewise, with the member, where only that is used
	program func() (*vm.Program, error) // compiled when it is first worked out
	gives   reflect.Type                // known once it was checked
	broken  *Mistake
	loops   bool
}

// UnmarshalText implements encoding.TextUnmarshaler. A mistake is reported by Check.
func (f *Formula) UnmarshalText(source []byte) error {
	*f = *New(string(source))
	return nil
}

// MarshalText implements encoding.TextMarshaler: it is what stands in the rulebook.
func (f Formula) MarshalText() ([]byte, error) { return []byte(f.source), nil }

// String is what stands in the rulebook.
func (f *Formula) String() string {
	if f == nil {
		return ""
	}
	return f.source
}

// Names lists the values that it uses.
func (f *Formula) Names() []string {
	if f == nil {
		return nil
	}
	return f.names
}

// Uses lists the values that it uses, as in version and to.track. One that is used as a whole stands without a member.
func (f *Formula) Uses() []string {
	if f == nil {
		return nil
	}
	return f.uses
}

// longest is how long an expression may take. Rulebooks come from strangers.
const longest = 2 * time.Second

// Value works an expression out.
func (f *Formula) Value(values Values) (any, error) {
	if f.broken != nil {
		return nil, f.broken
	}
	program, err := f.program()
	if err != nil {
		return nil, mistake(f.source, err)
	}
	type result struct {
		value any
		err   error
	}
	out := make(chan result, 1)
	work := func() {
		v, err := expr.Run(program, map[string]any(values))
		if err != nil {
			err = mistake(f.source, err)
		}
		out <- result{v, err}
	}
	if !f.loops {
		work()
		r := <-out
		return r.value, r.err
	}
	go work()
	select {
	case r := <-out:
		return r.value, r.err
	case <-time.After(longest):
		return nil, fmt.Errorf("{%s} takes too long to work out", f.source)
	}
}

// True works out an expression that decides. Left out, it is true.
func (f *Formula) True(values Values) (bool, error) {
	if f == nil {
		return true, nil
	}
	v, err := f.Value(values)
	if err != nil {
		return false, err
	}
	yes, ok := v.(bool)
	if !ok {
		return false, fmt.Errorf("%s is neither true nor false", f.source)
	}
	return yes, nil
}

// A Text is a text with expressions in braces. {{ is a brace.
type Text struct {
	source string
	parts  []part
}

// part is a text as it is, or an expression.
type part struct {
	text    string
	formula *Formula
}

// NewText reads a text.
func NewText(source string) Text {
	t := Text{source: source}
	var plain strings.Builder
	flush := func() {
		if plain.Len() > 0 {
			t.parts = append(t.parts, part{text: plain.String()})
			plain.Reset()
		}
	}
	for i := 0; i < len(source); i++ {
		switch {
		case strings.HasPrefix(source[i:], "{{"):
			plain.WriteByte('{')
			i++
		case source[i] == '{':
			end := closing(source[i+1:])
			f := &Formula{source: source[i:], broken: &Mistake{Message: "a brace is not closed; {{ stands for a brace itself"}}
			if end >= 0 {
				f = New(source[i+1 : i+1+end])
			} else {
				end = len(source)
			}
			flush()
			t.parts = append(t.parts, part{formula: f})
			i += end + 1
		default:
			plain.WriteByte(source[i])
		}
	}
	flush()
	return t
}

// closing is where the brace is that closes an expression; -1 without one.
func closing(text string) int {
	depth, quote := 0, byte(0)
	for i := 0; i < len(text); i++ {
		c := text[i]
		switch {
		case quote != 0 && c == '\\' && quote != '`':
			i++
		case quote != 0:
			if c == quote {
				quote = 0
			}
		case c == '"' || c == '\'' || c == '`':
			quote = c
		case c == '{':
			depth++
		case c == '}' && depth == 0:
			return i
		case c == '}':
			depth--
		}
	}
	return -1
}

// UnmarshalText implements encoding.TextUnmarshaler. A mistake is reported by Check.
func (t *Text) UnmarshalText(source []byte) error {
	*t = NewText(string(source))
	return nil
}

// MarshalText implements encoding.TextMarshaler: it is what stands in the rulebook.
func (t Text) MarshalText() ([]byte, error) { return []byte(t.source), nil }

// String is what stands in the rulebook.
func (t Text) String() string { return t.source }

// Plain is what stands around its expressions.
func (t Text) Plain() string {
	var out strings.Builder
	for _, p := range t.parts {
		out.WriteString(p.text)
	}
	return out.String()
}

// Names lists the values that its expressions use.
func (t Text) Names() []string {
	var list []string
	for _, p := range t.parts {
		list = append(list, p.formula.Names()...)
	}
	return list
}

// Uses lists the values that its expressions use, as Formula.Uses does.
func (t Text) Uses() []string {
	var list []string
	for _, p := range t.parts {
		list = append(list, p.formula.Uses()...)
	}
	return list
}

// Fill puts the values of its expressions in their places. put is given an expression, its value as a text, and what comes before it,
// and returns what is to stand there; nil keeps the value as it is.
func (t Text) Fill(values Values, put func(f *Formula, value any, text, before string) string) (string, error) {
	var out strings.Builder
	for _, p := range t.parts {
		if p.formula == nil {
			out.WriteString(p.text)
			continue
		}
		v, err := p.formula.Value(values)
		if err != nil {
			return "", err
		}
		text, err := Plain(v)
		if err != nil {
			return "", fmt.Errorf("{%s} %w", p.formula.source, err)
		}
		if put != nil {
			text = put(p.formula, v, text, out.String())
		}
		out.WriteString(text)
	}
	return out.String(), nil
}

// Alone is the only expression of a text that holds nothing else; nil of any other.
func (t Text) Alone() *Formula {
	if len(t.parts) == 1 {
		return t.parts[0].formula
	}
	return nil
}

// Formulas are its expressions.
func (t Text) Formulas() []*Formula {
	var list []*Formula
	for _, p := range t.parts {
		if p.formula != nil {
			list = append(list, p.formula)
		}
	}
	return list
}

// Plain writes a value as it stands in a text. What has no such form is an error, and nothing, too: an empty text where a value belongs
// is a mistake that nobody sees.
func Plain(v any) (string, error) {
	switch v := v.(type) {
	case nil:
		return "", fmt.Errorf("has no value")
	case string:
		return v, nil
	case json.Number:
		return v.String(), nil
	case Escaped:
		return string(v), nil
	case Bytes:
		return fmt.Sprintf("%x", []byte(v)), nil
	case bool, int, int64, float64:
		return fmt.Sprint(v), nil
	}
	return "", fmt.Errorf("is no text; json() or join() make one of it")
}

// Verbatim is a text without expressions.
func Verbatim(text string) Text { return Text{source: text, parts: []part{{text: text}}} }
