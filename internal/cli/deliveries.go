package cli

import (
	"context"
	"fmt"
	"strings"

	"havvel/internal/app"
	"havvel/internal/cli/term"
	"havvel/internal/deliver"
	"havvel/internal/inwords"
	"havvel/internal/project"
	"havvel/internal/rulebook"
	"havvel/internal/settings"
)

// desk is where the command deals with its destinations.
func (a *console) desk() (*app.Desk, error) {
	p, destinations, err := a.destinations()
	if err != nil {
		return nil, err
	}
	k := a.deskOf(p)
	k.Destinations = destinations
	return k, nil
}

func (a *console) deskOf(p *project.Project) *app.Desk {
	return &app.Desk{
		Project: p, Courier: a.courier(p), Report: a.screen.Progress(), DryRun: a.dryRun, Tell: a.happens,
		Password: func(d *project.Destination) (string, error) {
			return a.secret("password of the page on " + d.Rules.Name)
		},
	}
}

// delivered shows what a use case has come to, and tells the user's command of it.
func (a *console) delivered(ctx context.Context, r *app.Deliveries, err error) error {
	if r == nil {
		return err
	}
	a.answer(r)
	for _, d := range r.List {
		if d.News && ctx.Err() == nil {
			a.notice(ctx, d.Status)
		}
	}
	for _, next := range r.Next {
		a.next(next)
	}
	return err
}

// happens prints what happens in a use case.
func (a *console) happens(e app.Event) {
	s := a.screen
	switch e := e.(type) {
	case app.Has:
		if e.Public {
			s.Line("version %s is public on %s already", e.Version, e.At.Rules.Name)
		} else {
			s.Line("%s has version %s of this export already", e.At.Rules.Name, e.Version)
		}
	case app.WouldSend:
		s.Line("%s would get version %s: %s in %s, at %s", e.At.Rules.Name, e.Version, inwords.Files(e.Files), e.Path, e.At.Shown())
		a.hostWords(e.At)
	case app.Packs:
		a.hostWords(e.At)
	case app.Proved:
		a.showProof(e.Proof)
	case app.Sent:
		a.sentWords(e)
	case app.Loses:
		s.Paragraph(term.Careful, "", "  ", inwords.Clean(e.Says))
	case app.PageOf:
		s.Line("%s  %s", s.In(term.Strong, e.At.Rules.Name), s.In(term.Quiet, "has version "+e.Version))
	case app.Page:
		a.pageWords(e)
	case app.Permanent:
		indent := ""
		if e.Inner {
			indent = "  "
		}
		s.Paragraph(term.Careful, indent, indent+"  ", "permanent: "+e.Says)
	default:
		a.changes(e)
	}
}

func (a *console) sentWords(e app.Sent) {
	s := a.screen
	about := fmt.Sprintf("%s, %s", e.Archive.Path, settings.Size(e.Archive.Bytes))
	s.Line("%s  %s", s.In(term.Strong, "sent "+e.Status.Version+" to "+e.At.Rules.Name), s.In(term.Quiet, about))
	if deliver.Can(e.At, deliver.Headers) {
		return
	}
	s.Line("  %s", took(e.Status))
	switch {
	case e.Stand.Root && !e.Seen:
		s.Line("  its page goes to the site's own address: nothing in the export speaks against it, and no run has shown it")
	case !e.Stand.Root:
		words := "opens in a folder of its own, since " + e.Stand.Because() +
			"; what players save by the page's address starts anew with each version"
		if e.At.Feedback != "" {
			words += ", and the link of feedback is not shown there"
		}
		s.Paragraph(term.Plain, "  ", "    ", words)
	}
}

// changes prints what happens to a version that was sent.
func (a *console) changes(e app.Event) {
	s := a.screen
	switch e := e.(type) {
	case app.Waits:
		s.Line("waiting for %s to decide, %s at most", e.At.Rules.Name, inwords.Span(e.Limit))
	case app.Follows:
		s.Line("%s", e.At.Rules.Name)
	case app.State:
		a.became(e.Status)
	case app.Would:
		s.Line("%s", wouldBe(e))
	case app.Became:
		if e.Status.Note != "" {
			defer s.Paragraph(term.Careful, "  ", "  ", inwords.Clean(e.Status.Note))
		}
		s.Line("%s", strings.TrimRight(s.In(term.Strong, isNow(e))+"  "+inwords.Clean(e.Status.Link()), " "))
	case app.WouldDo:
		s.Line("version %s on %s would be %s", e.Status.Version, e.At.Rules.Name, doing(e.What))
	case app.Did:
		s.Line("%s  %s", s.In(term.Strong, fmt.Sprintf("version %s on %s: %s", e.Status.Version, e.At.Rules.Name, doing(e.What))),
			inwords.Clean(e.Status.Link()))
		a.became(e.Status)
	case app.Looked:
		a.showLive(e)
	case app.Standing:
		a.showWhere(e)
	default:
		a.runs(e)
	}
}

// runs prints what happens while the game runs.
func (a *console) runs(e app.Event) {
	s := a.screen
	switch e := e.(type) {
	case app.Unplayed:
		s.Warn("the game is only looked at, since [trial] in havvel.toml has no steps that play it")
	case app.Took:
		took := "took"
		if e.Clip {
			took = "recorded"
		}
		s.Line("%s %s  %s", took, e.File, s.In(term.Quiet, settings.Size(e.Bytes).String()))
	case app.Named:
		s.Line("named in %s as masters: %s", project.Name, strings.Join(e.Files, ", "))
	case app.Plays:
		s.Line("%s as on %s", s.In(term.Strong, inwords.Clean(e.Title)), e.On)
		s.Next("play in the window that opens, and close it when you are done; keys, presses, the wheel and a gamepad become steps")
	case app.Tries:
		s.Line("%s as on %s", s.In(term.Strong, inwords.Clean(e.Title)), e.On)
	case app.Tried:
		a.showTrial(e.Result, e.Report)
	}
}

// pageWords says what was, or would be, sent of a page.
func (a *console) pageWords(e app.Page) {
	changed := strings.Join(e.Changed, ", ")
	switch {
	case e.Would && changed == "":
		a.screen.Line("  nothing of its page has changed")
	case e.Would:
		a.screen.Line("  of its page: %s", changed)
	case changed == "":
		a.screen.Line("  page: sent again for this version")
	default:
		a.screen.Paragraph(term.Plain, "  ", "    ", "page: "+changed)
	}
}

func wouldBe(e app.Would) string {
	switch {
	case e.Locked:
		return fmt.Sprintf("version %s would be shown on %s to those with a password", e.Status.Version, e.At.Rules.Name)
	case e.Status.Would == rulebook.Withdrawn:
		return fmt.Sprintf("version %s would be taken offline on %s", e.Status.Version, e.At.Rules.Name)
	}
	return fmt.Sprintf("version %s would become %s on %s%s", e.Status.Version, e.Status.Would, e.At.Rules.Name, insteadOf(e.Instead))
}

// doing says what a portal was asked for.
func doing(what deliver.Ability) string {
	return map[deliver.Ability]string{
		deliver.Submit: "handed in for review", deliver.Recall: "taken back from review", deliver.Schedule: "made public at the time",
		deliver.Stage: "shown to a share of the players", deliver.Testers: "shown to testers",
	}[what]
}

func isNow(e app.Became) string {
	switch {
	case e.Locked:
		return fmt.Sprintf("version %s is on %s for those with the password", e.Status.Version, e.At.Rules.Name)
	case e.Status.State == rulebook.Withdrawn:
		return fmt.Sprintf("version %s is %s; nothing is public on %s now", e.Status.Version, e.Status.State, e.At.Rules.Name)
	}
	if e.Status.State == rulebook.Public && e.Status.Link() == "" { // nobody could look at it
		return fmt.Sprintf("version %s is in place on %s%s; what players get was not looked at",
			e.Status.Version, e.At.Rules.Name, insteadOf(e.Instead))
	}
	return fmt.Sprintf("version %s is %s on %s%s", e.Status.Version, e.Status.State, e.At.Rules.Name, insteadOf(e.Instead))
}

func insteadOf(version string) string {
	if version == "" {
		return ""
	}
	return ", instead of " + version
}

// hostWords says what a site does to builds, since it sets no headers by itself.
func (a *console) hostWords(d *project.Destination) {
	if deliver.Can(d, deliver.Headers) {
		return
	}
	if len(d.Serves) == 0 {
		a.screen.Line("  precompressed files are packed plain, since %s is not known to send Content-Encoding (serves in havvel.toml)", d.Name)
	}
	if !d.Isolation && a.dryRun {
		a.screen.Line("  threads don't work there, since %s is not known to send isolation headers (isolation in havvel.toml)", d.Name)
	}
}

// took says what an upload to a site took.
func took(st *deliver.Status) string {
	t := st.Took
	entries := t.Files + t.Copied + t.Kept
	words := fmt.Sprintf("%s of %s sent, %s", inwords.Of(t.Files, "1", fmt.Sprint(t.Files)), inwords.Files(entries), settings.Size(t.Bytes))
	if t.Copied > 0 {
		words += fmt.Sprintf("; %d unchanged, copied on the host", t.Copied)
	}
	if t.Kept > 0 {
		words += fmt.Sprintf("; %d were there from an earlier try", t.Kept)
	}
	return words
}

// became prints the state of one delivery.
func (a *console) became(st *deliver.Status) {
	s := a.screen
	s.Line("  state: %s", s.In(toneOf(st.State), st.State))
	for _, r := range st.Reasons {
		s.Paragraph(term.Plain, "    - ", "      ", inwords.Clean(r))
	}
	if st.Note != "" {
		s.Paragraph(term.Careful, "    ", "    ", inwords.Clean(st.Note))
	}
	if link := st.Link(); link != "" {
		s.Line("  look at it: %s", inwords.Clean(link))
	}
}

func toneOf(state string) term.Tone {
	switch state {
	case rulebook.Public, rulebook.Draft:
		return term.Good
	case rulebook.Refused:
		return term.Bad
	case rulebook.Replaced, rulebook.Withdrawn:
		return term.Quiet
	}
	return term.Careful
}
