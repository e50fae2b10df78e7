// Package hooks finds, plants and stands in for what a portal wants to hear from a game: its scripts in the entry page, and
// calls of them. A game may send events instead, and an adapter makes the portal's calls of them. Which scripts and
// calls, and where, is the rulebook's business; running a game is trial's.
package hooks

import (
	"bytes"
	_ "embed"
	"encoding/json"
	"fmt"
	"html"
	"maps"
	"slices"
	"strings"

	"github.com/tdewolff/minify/v2"
	"github.com/tdewolff/minify/v2/js"

	"havvel/internal/export"
	"havvel/internal/export/script"
	"havvel/internal/export/web"
	"havvel/internal/rulebook"
)

// Event is the name of the DOM event with which a game says what happens in it, on window. Its detail has the event's name under
// "event", and more.
const Event = "game-event"

// SendLine is the line of script that sends an event.
func SendLine(event string) string {
	return fmt.Sprintf(`window.dispatchEvent(new CustomEvent(%q, { detail: { event: %q } }));`, Event, event)
}

// Present reports whether the page already names the hook's script.
func Present(page *web.Page, h rulebook.Hook) bool {
	for _, l := range page.Links {
		if l.Use == "script" && l.Target == h.Script {
			return true
		}
	}
	return false
}

// Plant returns the page's bytes with the hook's script in its place, between marks that say where
// it came from. data must be what page was read from.
func Plant(data []byte, page *web.Page, h rulebook.Hook) []byte {
	var attributes strings.Builder
	for _, name := range slices.Sorted(maps.Keys(h.Attributes)) {
		fmt.Fprintf(&attributes, " %s=\"%s\"", name, html.EscapeString(h.Attributes[name]))
	}
	return insert(
		data,
		place(page, h),
		fmt.Sprintf(
			"\n<!-- havvel: %s --><script src=\"%s\"%s></script><!-- /havvel -->\n",
			html.EscapeString(h.Name),
			html.EscapeString(h.Script),
			attributes.String(),
		),
	)
}

func place(page *web.Page, h rulebook.Hook) int {
	return map[string]int{"head-start": page.HeadStart, "head-end": page.HeadEnd, "body-end": page.BodyEnd}[h.Place]
}

func insert(data []byte, at int, text string) []byte {
	return slices.Concat(data[:at], []byte(text), data[at:])
}

// adapterMark stands before an adapter in a page.
const adapterMark = "<!-- havvel: adapter -->"

//go:embed adapter.js
var adapter string

// Adapt returns the page's bytes with an adapter behind the hook's script: it turns the events that the game sends into
// the portal's calls. data must be what page was read from; values replace names in braces in the start call. An adapter
// that is there already is left as it is.
func Adapt(data []byte, page *web.Page, h rulebook.Hook, values map[string]string) []byte {
	if len(h.Calls) == 0 || bytes.Contains(data, []byte(adapterMark)) {
		return data
	}
	at := place(page, h)
	if src := bytes.Index(data, []byte(html.EscapeString(h.Script))); src >= 0 {
		if end := bytes.Index(data[src:], []byte("</script>")); end >= 0 {
			at = src + end + len("</script>")
		}
	}
	return insert(data, at, adapterMark+"<script>"+strings.TrimSpace(adapter)+"("+string(described(h, values))+");</script><!-- /havvel -->")
}

// Inferred is what is found out while a game runs, for games that don't send it.
type Inferred struct {
	Events []string // of rulebook.Inferable
	Values []Value
}

// A Value is a statistic that the game keeps in a global value, or in its storage.
type Value struct {
	Name    string `json:"name"`
	Global  string `json:"global,omitempty"`
	Storage string `json:"storage,omitempty"`
}

// Has reports whether an event is found out.
func (i Inferred) Has(event string) bool {
	return slices.Contains(i.Events, event) || event == "statistic" && len(i.Values) > 0
}

//go:embed infer.js
var inferring string

// inferMark stands before what infers in a page.
const inferMark = "<!-- havvel: inferred -->"

// Infer returns the page's bytes with a script that finds out what happens, before all others, and sends the events that the game could
// send. data must be what page was read from.
func Infer(data []byte, page *web.Page, what Inferred) []byte {
	if len(what.Events)+len(what.Values) == 0 || bytes.Contains(data, []byte(inferMark)) {
		return data
	}
	given, err := json.Marshal(map[string]any{ // < is escaped
		"events": append([]string{}, what.Events...), "values": append([]Value{}, what.Values...),
	})
	if err != nil {
		panic(err) // they are texts
	}
	return insert(data, page.HeadStart, "\n"+inferMark+"<script>"+short(inferring)+"("+string(given)+");</script><!-- /havvel -->")
}

// short is a script with short names and without spaces.
func short(text string) string {
	var b bytes.Buffer
	if err := (&js.Minifier{}).Minify(minify.New(), &b, strings.NewReader(text), nil); err != nil {
		panic(err) // it is one of ours
	}
	return strings.TrimSuffix(b.String(), ";")
}

// described is what the adapter must know of a hook, as JSON that can stand in a script.
func described(h rulebook.Hook, values map[string]string) []byte {
	type call struct {
		Call      string `json:"call"`
		Event     string `json:"event,omitempty"`
		Arguments []any  `json:"arguments"`
		Answers   bool   `json:"answers,omitempty"`
		Back      bool   `json:"back,omitempty"`
		Take      string `json:"take,omitempty"`
		Gives     bool   `json:"gives,omitempty"`
	}
	var d struct {
		Start *call  `json:"start,omitempty"`
		Calls []call `json:"calls"`
	}
	if s := h.Start; s != nil {
		d.Start = &call{Call: s.Call, Arguments: filled(s.Arguments, values), Gives: s.Gives}
	}
	for _, c := range h.Calls {
		d.Calls = append(d.Calls, call{Call: c.Call, Event: c.Event, Arguments: filled(c.Arguments, nil), Answers: c.Answers != "",
			Back: c.Answers == "callback", Take: c.Take})
	}
	text, err := json.Marshal(d) // < is escaped
	if err != nil {
		panic(err) // it came from TOML, all of which JSON can hold
	}
	return text
}

func filled(arguments []any, values map[string]string) []any {
	list := make([]any, len(arguments))
	for i, a := range arguments {
		if text, ok := a.(string); ok {
			for name, v := range values {
				text = strings.ReplaceAll(text, "{"+name+"}", v)
			}
			a = text
		}
		list[i] = a
	}
	return list
}

// Sends reports whether a script of the build sends an event.
func Sends(b *export.Build, event string) bool {
	_, _, ok := SentFrom(b, event)
	return ok
}

// SentFrom finds where a script of the build names an event: the file, and the offset in it. The event itself must be named
// somewhere, too.
func SentFrom(b *export.Build, event string) (f *export.File, offset int, ok bool) {
	named := false
	for _, o := range b.Parts() {
		if adapted(o) {
			continue // an adapter names all events
		}
		for _, s := range scripts(o) {
			if _, has := s.Says[Event]; has {
				named = true
			}
			if at, has := s.Says[event]; has && f == nil {
				f, offset = o, at
			}
		}
	}
	return f, offset, named && f != nil
}

// Makes finds where a script of the build makes a call by its dotted name, or hands the function on. sure is false where scripts hand on
// what the function is in, so that whether they make the call can't be told. f is nil where no script does either.
func Makes(b *export.Build, call string) (f *export.File, offset int, sure bool) {
	for name := call; ; {
		for _, o := range b.Parts() {
			for _, s := range scripts(o) {
				if at, has := s.Calls[name]; has && name == call {
					return o, at, true
				}
				if at, has := s.Uses[name]; has {
					return o, at, name == call
				}
			}
		}
		dot := strings.LastIndexByte(name, '.')
		if dot < 0 {
			return nil, 0, false
		}
		name = name[:dot]
	}
}

// Adapted reports whether an adapter stands in the entry page.
func Adapted(b *export.Build) bool {
	return b.Entry != nil && adapted(b.Entry)
}

func adapted(f *export.File) bool { return f.Page != nil && f.Page.Inline.Says["game-answer"] > 0 }

func scripts(f *export.File) []*script.Script {
	switch {
	case f.Script != nil:
		return []*script.Script{f.Script}
	case f.Page != nil:
		return []*script.Script{f.Page.Inline}
	}
	return nil
}
