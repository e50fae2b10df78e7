package cli

import (
	"context"
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"havvel/internal/app"
	"havvel/internal/cli/term"
	"havvel/internal/hooks"
	"havvel/internal/inwords"
	"havvel/internal/project"
	"havvel/internal/trial"
)

func (a *console) hooks() *cobra.Command {
	c := a.new(command{
		use:   "hooks [EXPORT]",
		short: "Which calls each portal wants, and where the game makes them",
		long: "Hooks lists, for each destination, the scripts and calls that it wants: whether they are required, where the game's code makes\n" +
			"them or that pack's adapter does, and what the last trial heard. docs/hooks.md says how a game sends events once, for all\n" +
			"portals.",
		example: "  havvel hooks\n  havvel hooks --to brackwater --json",
		args:    cobra.MaximumNArgs(1),
		run:     func(ctx context.Context, args []string) error { return a.runHooks(ctx, args) },
	})
	a.withTo(c)
	return c
}

type hooksJSON struct {
	Hooks []app.Hook `json:"hooks"`
}

func (a *console) runHooks(ctx context.Context, args []string) error {
	p, destinations, err := a.destinations()
	if err != nil {
		return err
	}
	_, b, err := app.Open(ctx, args, a.entry, app.Known)
	if err != nil {
		return err
	}
	defer b.Close()
	doc := hooksJSON{Hooks: []app.Hook{}}
	for _, d := range destinations {
		last := trial.Last(p.Folder, d.Name)
		if last != nil && last.Fingerprint != b.Fingerprint {
			last = nil
		}
		rows := app.Hooks(ctx, b, d, app.InferredOf(p), last)
		doc.Hooks = append(doc.Hooks, rows...)
		a.showHooks(d, rows, last)
	}
	a.answer(doc)
	a.nextOfHooks(doc.Hooks)
	return nil
}

// nextOfHooks says what to do about calls that are wanted: to try, to make what a trial did not hear, or to send.
func (a *console) nextOfHooks(rows []app.Hook) {
	for _, r := range rows {
		switch {
		case r.Event == "":
			continue // a script
		case !r.Tried && r.Required && r.MadeBy == "":
			a.showSendLine(r.Event)
			a.screen.Next("make the call %s, or send the event, export again, and run havvel hooks", r.Hook)
			return
		case !r.Tried:
			a.screen.Next("havvel trial  (hears what the game calls)")
			return
		case r.Required && r.Heard == 0:
			a.showSendLine(r.Event)
			a.screen.Next("make the call %s, or send the event, export again, and run havvel trial", r.Hook)
			return
		}
	}
	a.screen.Next("havvel send")
}

// showSendLine prints the line of script that sends an event.
func (a *console) showSendLine(event string) {
	a.screen.Line("  this line of script sends the event %q, to all portals:", event)
	a.screen.Line("    %s", hooks.SendLine(event))
	a.screen.Line("")
}

func (a *console) showHooks(d *project.Destination, rows []app.Hook, last *trial.Result) {
	s := a.screen
	s.Line("%s", s.In(term.Strong, d.Rules.Name))
	if len(rows) == 0 {
		s.Line("  wants no script and no call; the events that the game sends do nothing there")
		s.Line("")
		return
	}
	var table [][]string
	for _, r := range rows {
		need := "may"
		if r.Required {
			need = "must"
		}
		table = append(table, []string{need, inwords.Clean(r.Hook), r.Event, madeBy(r), heardWords(r)})
	}
	s.Table([]string{"", "what", "event", "made by", "last trial"}, table)
	if last == nil {
		s.Line("  %s", s.In(term.Quiet, "no trial of this export yet"))
	}
	s.Line("")
}

func madeBy(r app.Hook) string {
	at := ""
	if r.File != "" {
		at = " at " + r.File
		if r.Line > 0 {
			at += fmt.Sprintf(":%d", r.Line)
		}
	}
	switch r.MadeBy {
	case "":
		return "not in the code"
	case "unclear":
		return "perhaps the code" + at
	case "pack":
		return "pack plants it"
	case "adapter":
		return "adapter, sent" + at
	}
	return "the " + r.MadeBy + at
}

func heardWords(r app.Hook) string {
	switch {
	case r.Event == "" || !r.Tried:
		return ""
	case r.Heard == 0:
		return "not heard"
	}
	words := fmt.Sprintf("%s, %s", ordinal(r.Place), inwords.Of(r.Heard, "once", fmt.Sprintf("%d times", r.Heard)))
	if r.Arguments != "" {
		words += ": " + inwords.Clean(strings.ReplaceAll(r.Arguments, ",", ", "))
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
