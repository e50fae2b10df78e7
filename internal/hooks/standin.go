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
// dispatches Heard for each call. A condition of the portal's (rulebook.Conditions) has it answer as on a bad day; "" is a good one.
func StandIn(h rulebook.Hook, condition string) string {
	type call struct {
		Call    string `json:"call"`
		Event   string `json:"event,omitempty"`
		Answers string `json:"answers,omitempty"`
		Take    string `json:"take,omitempty"`
		Example any    `json:"example,omitempty"`
		Without any    `json:"without,omitempty"`
		Gives   bool   `json:"gives,omitempty"`
	}
	var d struct {
		Mood  string `json:"mood,omitempty"`
		Start *call  `json:"start,omitempty"`
		Calls []call `json:"calls"`
	}
	d.Mood = condition
	if h.Start != nil {
		d.Start = &call{Call: h.Start.Call, Gives: h.Start.Gives}
	}
	d.Calls = []call{}
	for _, c := range h.Calls {
		d.Calls = append(d.Calls, call{
			Call: c.Call, Event: c.Event, Answers: c.Answers, Take: c.Take, Example: c.Example, Without: c.Without,
		})
	}
	text, err := json.Marshal(d)
	if err != nil {
		panic(err) // it came from TOML, all of which JSON can hold
	}
	return strings.TrimSpace(standIn) + "(" + string(text) + ");\n"
}
