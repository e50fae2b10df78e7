package app

import (
	"bytes"
	"context"
	"strings"

	"havvel/internal/export"
	"havvel/internal/hooks"
	"havvel/internal/project"
	"havvel/internal/rulebook"
	"havvel/internal/trial"
)

// A Hook is one thing that a destination wants.
type Hook struct {
	Destination string `json:"destination"`
	Hook        string `json:"hook"` // the script's address, or the call
	Event       string `json:"event"`
	Required    bool   `json:"required"`
	MadeBy      string `json:"made_by"` // "page", "code", "adapter", "inferred", "pack", "unclear" or "" for nobody
	File        string `json:"file"`
	Line        int    `json:"line"`
	Heard       int    `json:"heard"`     // how often the last trial heard it
	Place       int    `json:"place"`     // of the first time among all calls of the view, from 1
	Arguments   string `json:"arguments"` // of the first time
	Tried       bool   `json:"tried"`     // there was a trial of the same export
}

// Hooks lists what a destination wants of a build: who makes it, and what the last trial of the same export heard, nil for none.
func Hooks(ctx context.Context, b *export.Build, d *project.Destination, inferred hooks.Inferred, last *trial.Result) []Hook {
	var rows []Hook
	for _, h := range d.Rules.Hooks {
		script := Hook{Destination: d.Name, Hook: h.Script, Required: h.Required}
		switch {
		case b.Entry != nil && b.Entry.Page != nil && hooks.Present(b.Entry.Page, h):
			script.MadeBy, script.File = "page", b.Entry.Path
		case h.Plant && d.Plants():
			script.MadeBy = "pack"
		}
		rows = append(rows, script)
		for _, c := range h.Calls {
			rows = append(rows, callRow(ctx, b, d, h, c, inferred, last))
		}
	}
	return rows
}

func callRow(
	ctx context.Context, b *export.Build, d *project.Destination, h rulebook.Hook, c rulebook.Call,
	inferred hooks.Inferred, last *trial.Result,
) Hook {
	r := Hook{Destination: d.Name, Hook: c.Call, Event: c.Event, Required: c.Required, Tried: last != nil}
	made, place, sure := hooks.Makes(b, c.Call)
	if sure {
		r.MadeBy, r.File, r.Line = "code", made.Path, lineOf(ctx, made, place)
	} else if f, at, ok := hooks.SentFrom(b, c.Event); ok && h.Plant && d.Plants() {
		r.MadeBy, r.File, r.Line = "adapter", f.Path, lineOf(ctx, f, at)
	} else if h.Plant && d.Plants() && inferred.Has(c.Event) {
		r.MadeBy = "inferred"
	} else if made != nil {
		r.MadeBy, r.File, r.Line = "unclear", made.Path, lineOf(ctx, made, place)
	}
	if last != nil && len(last.Views) > 0 {
		place := 0
		for _, e := range last.Views[0].Heard {
			if e.Kind != "call" {
				continue
			}
			place++
			if e.Name == c.Call {
				if r.Heard++; r.Heard == 1 {
					r.Place, r.Arguments = place, strings.TrimSuffix(strings.TrimPrefix(string(e.Arguments), "["), "]")
				}
			}
		}
	}
	return r
}

// lineOf is the line of an offset in a text file; 0 when it can't be read.
func lineOf(ctx context.Context, f *export.File, offset int) int {
	data, err := f.ReadAll(ctx, int64(offset))
	if err != nil || f.Encoding != "" {
		return 0
	}
	return bytes.Count(data, []byte("\n")) + 1
}
