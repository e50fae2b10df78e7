package cli

import (
	"bytes"
	"context"
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"havvel/internal/cli/term"
	"havvel/internal/export"
	"havvel/internal/hooks"
	"havvel/internal/project"
	"havvel/internal/rulebook"
	"havvel/internal/trial"
)

func (a *app) hooks() *cobra.Command {
	c := a.new(command{
		use:   "hooks [EXPORT]",
		short: "Which calls each portal wants, and where the game makes them",
		long: "Hooks lists, for each destination, the scripts and calls that it wants: whether they are required, where the game's code makes\n" +
			"them or that pack's adapter does, and what the last trial heard. docs/hooks.md says how a game announces moments once, for all\n" +
			"portals.",
		example: "  havvel hooks\n  havvel hooks --to brackwater --json",
		args:    cobra.MaximumNArgs(1),
		run:     func(ctx context.Context, args []string) error { return a.runHooks(ctx, args) },
	})
	a.withTo(c)
	a.withJSON(c)
	return c
}

type hooksJSON struct {
	Hooks []hookRow `json:"hooks"`
}

// hookRow is one thing that a destination wants.
type hookRow struct {
	Destination string `json:"destination"`
	Hook        string `json:"hook"` // the script's address, or the call
	Moment      string `json:"moment"`
	Required    bool   `json:"required"`
	MadeBy      string `json:"made_by"` // "page", "code", "adapter", "pack" or "" for nobody
	File        string `json:"file"`
	Line        int    `json:"line"`
	Heard       int    `json:"heard"`     // how often the last trial heard it
	Place       int    `json:"place"`     // of the first time among all calls of the view, from 1
	Arguments   string `json:"arguments"` // of the first time
	Tried       bool   `json:"tried"`     // there was a trial of the same export
}

func (a *app) runHooks(ctx context.Context, args []string) error {
	p, destinations, err := a.destinations()
	if err != nil {
		return err
	}
	_, b, err := a.subject(ctx, args, known)
	if err != nil {
		return err
	}
	defer b.Close()
	doc := hooksJSON{Hooks: []hookRow{}}
	for _, d := range destinations {
		last := trial.Last(p.Folder, d.Name)
		if last != nil && last.Fingerprint != b.Fingerprint {
			last = nil
		}
		rows := hookRows(ctx, b, d, last)
		doc.Hooks = append(doc.Hooks, rows...)
		if !a.json {
			a.showHooks(d, rows, last)
		}
	}
	if a.json {
		return a.screen.JSON(doc)
	}
	a.nextOfHooks(doc.Hooks)
	return nil
}

// nextOfHooks says what to do about calls that are wanted: to try, to make what a trial did not hear, or to send.
func (a *app) nextOfHooks(rows []hookRow) {
	for _, r := range rows {
		switch {
		case r.Moment == "":
			continue // a script
		case !r.Tried && r.Required && r.MadeBy == "":
			a.showAnnouncing(r.Moment)
			a.screen.Next("make the call %s, or announce the moment, export again, and run havvel hooks", r.Hook)
			return
		case !r.Tried:
			a.screen.Next("havvel trial  (hears what the game calls)")
			return
		case r.Required && r.Heard == 0:
			a.showAnnouncing(r.Moment)
			a.screen.Next("make the call %s, or announce the moment, export again, and run havvel trial", r.Hook)
			return
		}
	}
	a.screen.Next("havvel send")
}

// showAnnouncing prints the line of script by which a game announces a moment.
func (a *app) showAnnouncing(moment string) {
	a.screen.Line("  the game announces %q by this line of script, for all portals:", moment)
	a.screen.Line("    %s", hooks.Announcing(moment))
	a.screen.Line("")
}

// hookRows lists what a destination wants of a build.
func hookRows(ctx context.Context, b *export.Build, d *project.Destination, last *trial.Result) []hookRow {
	var rows []hookRow
	for _, h := range d.Rules.Hooks {
		script := hookRow{Destination: d.Name, Hook: h.Script, Required: h.Required}
		switch {
		case b.Entry != nil && b.Entry.Page != nil && hooks.Present(b.Entry.Page, h):
			script.MadeBy, script.File = "page", b.Entry.Path
		case h.Plant && d.Plants():
			script.MadeBy = "pack"
		}
		rows = append(rows, script)
		for _, c := range h.Calls {
			rows = append(rows, callRow(ctx, b, d, h, c, last))
		}
	}
	return rows
}

func callRow(ctx context.Context, b *export.Build, d *project.Destination, h rulebook.Hook, c rulebook.Call, last *trial.Result) hookRow {
	r := hookRow{Destination: d.Name, Hook: c.Call, Moment: c.Moment, Required: c.Required, Tried: last != nil}
	if f, at, ok := hooks.Makes(b, c.Call); ok {
		r.MadeBy, r.File, r.Line = "code", f.Path, lineOf(ctx, f, at)
	} else if f, at, ok := hooks.Announces(b, c.Moment); ok && h.Plant && d.Plants() {
		r.MadeBy, r.File, r.Line = "adapter", f.Path, lineOf(ctx, f, at)
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
					r.Place, r.Arguments = place, argumentsOf(e.Arguments)
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

func (a *app) showHooks(d *project.Destination, rows []hookRow, last *trial.Result) {
	s := a.screen
	s.Line("%s", s.In(term.Strong, d.Rules.Name))
	if len(rows) == 0 {
		s.Line("  wants no script and no call; what the game announces does nothing there")
		s.Line("")
		return
	}
	var table [][]string
	for _, r := range rows {
		need := "may"
		if r.Required {
			need = "must"
		}
		table = append(table, []string{need, term.Clean(r.Hook), r.Moment, madeBy(r), heardWords(r)})
	}
	s.Table([]string{"", "what", "moment", "made by", "last trial"}, table)
	if last == nil {
		s.Line("  %s", s.In(term.Quiet, "no trial of this export yet"))
	}
	s.Line("")
}

func madeBy(r hookRow) string {
	at := ""
	if r.File != "" {
		at = " at " + r.File
		if r.Line > 0 {
			at += fmt.Sprintf(":%d", r.Line)
		}
	}
	switch r.MadeBy {
	case "":
		return "nobody"
	case "pack":
		return "pack plants it"
	case "adapter":
		return "adapter, announced" + at
	}
	return "the " + r.MadeBy + at
}

func heardWords(r hookRow) string {
	switch {
	case r.Moment == "" || !r.Tried:
		return ""
	case r.Heard == 0:
		return "not heard"
	}
	words := fmt.Sprintf("%s, %s", ordinal(r.Place), does(r.Heard, "once", fmt.Sprintf("%d times", r.Heard)))
	if r.Arguments != "" {
		words += ": " + term.Clean(strings.ReplaceAll(r.Arguments, ",", ", "))
	}
	return words
}

func ordinal(n int) string {
	ending := "th"
	if n%100 < 11 || n%100 > 13 {
		ending = map[int]string{1: "st", 2: "nd", 3: "rd"}[n%10]
		if ending == "" {
			ending = "th"
		}
	}
	return fmt.Sprintf("%d%s", n, ending)
}
