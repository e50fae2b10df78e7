package cli

import (
	"bytes"
	"encoding/json"
	"fmt"

	"havvel/internal/fault"
)

// answer sets the document that the command prints with --json: a struct or map. Its words are muted then; they, what comes next and
// the failures become part of the document.
func (a *console) answer(doc any) { a.doc = doc }

// tell prints one line of JSON Lines, for commands that tell things as they happen. Without --json it prints nothing.
func (a *console) tell(event any) {
	if a.json {
		a.lines = true
		a.screen.JSONLine(event)
	}
}

// next prints what to do next, where there is something.
func (a *console) next(words string) {
	if words != "" {
		a.screen.Next("%s", words)
	}
}

// inForm sets how a report is printed: as text, JSON, or in another format, besides which there is nothing on standard output.
func (a *console) inForm(format string) {
	switch {
	case format == "json":
		a.json = true
	case format == "text" || a.json:
		return
	default:
		a.raw = true
	}
	a.screen.Mute()
}

// errorJSON is an error in a document.
type errorJSON struct {
	Kind    string `json:"kind"`
	Message string `json:"message"`
	Next    string `json:"next,omitempty"`
	File    string `json:"file,omitempty"`
	Line    int    `json:"line,omitempty"`
	Column  int    `json:"column,omitempty"`
}

// finish prints the document, says the errors, and returns the exit code.
func (a *console) finish(err error) int {
	faults, code := judge(err)
	if a.json && !a.raw {
		if failed := a.document(faults); failed != nil {
			faults, code = append(faults, fault.Of(failed)), codes[fault.Here]
		}
	}
	for _, f := range faults {
		a.complain(f)
	}
	return code
}

// document prints the command's document with what comes next and the errors in it; of a command that tells things as they happen,
// a last line with them.
func (a *console) document(faults []*fault.Error) error {
	more := map[string]any{"next": append([]string{}, a.screen.Said()...)}
	if a.dryRun {
		more["dry_run"] = true
	}
	var list []errorJSON
	for _, f := range faults {
		list = append(list, errorJSON{f.Kind.String(), f.What, f.Next, f.At.File, f.At.Line, f.At.Column})
	}
	if list != nil {
		more["failures"] = list
	}
	if a.lines {
		if list != nil {
			a.screen.JSONLine(more)
		}
		return nil
	}
	doc, err := merged(a.doc, more)
	if err != nil {
		return err
	}
	return a.screen.JSON(doc)
}

// merged is a document with more keys at its end.
func merged(doc any, more map[string]any) (json.RawMessage, error) {
	if doc == nil {
		doc = struct{}{}
	}
	first, err := plainJSON(doc)
	if err != nil {
		return nil, err
	}
	last, err := plainJSON(more)
	if err != nil {
		return nil, err
	}
	if !bytes.HasPrefix(first, []byte("{")) {
		return nil, fmt.Errorf("a document that is no object: %.40s", first)
	}
	body := bytes.TrimSuffix(first, []byte("}"))
	if len(body) > 1 {
		body = append(body, ',')
	}
	return append(body, last[1:]...), nil
}

// plainJSON writes a value without escapes for HTML.
func plainJSON(v any) ([]byte, error) {
	var b bytes.Buffer
	e := json.NewEncoder(&b)
	e.SetEscapeHTML(false)
	err := e.Encode(v)
	return bytes.TrimSpace(b.Bytes()), err
}
