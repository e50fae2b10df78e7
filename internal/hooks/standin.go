package hooks

import (
	_ "embed"
	"encoding/json"
	"strings"

	"havvel/internal/rulebook"
)

//go:embed standin.js
var standIn string

// Heard is the event with which a stand-in says, on window, that a call was made. Its detail has call and arguments.
const Heard = "havvel-heard"

// StandIn is a script that stands in for a hook's: it has the functions that the rulebook names, answers as that says, and
// dispatches Heard for each call.
func StandIn(h rulebook.Hook) string {
	type call struct {
		Call    string `json:"call"`
		Answers string `json:"answers,omitempty"`
		Example any    `json:"example,omitempty"`
		Gives   bool   `json:"gives,omitempty"`
	}
	var d struct {
		Start *call  `json:"start,omitempty"`
		Calls []call `json:"calls"`
	}
	if h.Start != nil {
		d.Start = &call{Call: h.Start.Call, Gives: h.Start.Gives}
	}
	d.Calls = []call{}
	for _, c := range h.Calls {
		d.Calls = append(d.Calls, call{Call: c.Call, Answers: c.Answers, Example: c.Example})
	}
	text, err := json.Marshal(d)
	if err != nil {
		panic(err) // it came from TOML, all of which JSON can hold
	}
	return strings.TrimSpace(standIn) + "(" + string(text) + ");\n"
}
