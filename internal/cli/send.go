package cli

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"github.com/spf13/cobra"

	"havvel/internal/app"
	"havvel/internal/cli/term"
	"havvel/internal/deliver"
	"havvel/internal/export"
	"havvel/internal/inwords"
	"havvel/internal/logbook"
	"havvel/internal/project"
	"havvel/internal/rulebook"
	"havvel/internal/settings"
)

// sendFlags are what send takes besides what all commands take.
type sendFlags struct {
	choices app.Choices
	version string
	again   bool
	only    string
	wait    bool
	limit   time.Duration
}

func (a *console) send() *cobra.Command {
	var f sendFlags
	c := a.new(command{
		use:   "send [EXPORT]",
		short: "Upload this version",
		long: "Send checks the export, packs it, uploads it to each destination, and fills in its page there with what has changed of it. An\n" +
			"export with errors is not sent, nor one that was sent before; then only the page goes, if that has changed. What was sent is\n" +
			"written into the logbook; havvel where says what state it is in.",
		example: "  havvel send --wait\n  havvel send --to brackwater --version 0.4.1",
		args:    cobra.MaximumNArgs(1),
		run:     func(ctx context.Context, args []string) error { return a.runSend(ctx, args, f) },
	})
	c.Flags().StringVar(&f.version, "version", "", "send it as this `version` (the one in havvel.toml)")
	c.Flags().BoolVar(&f.again, "again", false, "send it even if this export, or this version, was sent before")
	c.Flags().StringVar(&f.only, "only", "", "send only the `build`, or only the page")
	c.RegisterFlagCompletionFunc("only", cobra.FixedCompletions([]string{"build", "page"}, cobra.ShellCompDirectiveNoFileComp))
	a.withWait(c, &f.wait, &f.limit)
	a.withNotice(c)
	a.withChoices(c, &f.choices)
	a.withTo(c)
	a.withDryRun(c, "check and say what would be sent, and send nothing")
	return c
}

func (a *console) withWait(c *cobra.Command, wait *bool, limit *time.Duration) {
	c.Flags().BoolVarP(wait, "wait", "w", false, "wait until the portal has decided")
	c.Flags().DurationVar(limit, "limit", 2*time.Minute, "with --wait, the longest `time` to wait")
}

func (a *console) runSend(ctx context.Context, args []string, f sendFlags) error {
	p, destinations, err := a.destinations()
	if err != nil {
		return err
	}
	if f.only != "" {
		if err := oneOf("havvel send", "--only", f.only, "build", "page"); err != nil {
			return wrong("havvel send", "%w", err)
		}
	}
	if f.only == "page" {
		return a.sendPages(ctx, p, destinations)
	}
	if f.version, err = app.Version(p, f.version); err != nil {
		return err
	}
	_, b, err := app.Open(ctx, args, a.entry, app.Exact)
	if err != nil {
		return err
	}
	defer b.Close()
	courier := a.courier(p)
	pages := map[string]*deliver.Contents{}
	if f.only != "build" {
		if pages, err = a.sendablePages(ctx, p, destinations, f.version); err != nil {
			return err
		}
	}
	var pageOnly, have []*project.Destination
	if !f.again {
		if destinations, pageOnly, have, err = app.Unsent(courier, destinations, pages, f.version, b.Fingerprint); err != nil {
			return err
		}
		for _, d := range have {
			a.screen.Line("%s has version %s of this export already", d.Rules.Name, f.version)
		}
	}
	how := app.Sending{Choices: f.choices, Version: f.version, Again: f.again, DryRun: a.dryRun}
	for _, d := range destinations { // all of them before the first byte goes out
		if err := app.Sendable(courier, d, b, how); err != nil {
			return a.refusal(p, d, b, err)
		}
	}
	if len(pageOnly) > 0 {
		if err := a.sendPages(ctx, p, pageOnly); err != nil || len(destinations) == 0 {
			return err
		}
	}
	var failed error
	var shown []*deliver.Status
	for _, d := range destinations {
		status, err := a.sendOne(ctx, p, d, b, pages[d.Name], courier, f)
		if status != nil {
			shown = append(shown, status)
		}
		if err != nil {
			failed = errors.Join(failed, err)
			if ctx.Err() != nil {
				break
			}
		}
	}
	if f.wait && !a.dryRun {
		failed = errors.Join(failed, a.awaitAll(ctx, p, courier, shown, f.limit))
	}
	doc := deliveriesJSON{Deliveries: []deliveryRow{}}
	for _, status := range shown {
		doc.add(status)
		a.notice(ctx, status)
	}
	a.answer(doc)
	if len(shown) > 0 && !a.dryRun {
		a.next(app.Next(p, shown))
	}
	return failed
}

func (a *console) sendOne(
	ctx context.Context,
	p *project.Project,
	d *project.Destination,
	b *export.Build,
	page *deliver.Contents,
	courier *deliver.Courier,
	f sendFlags,
) (*deliver.Status, error) {
	plan, done, err := app.PlanFor(ctx, p, d, b, f.version, f.choices, a.screen.Progress())
	if err != nil {
		return nil, err
	}
	defer done()
	path := app.ArchivePath(p, d, "", f.version)
	if a.dryRun {
		a.screen.Line("%s would get version %s: %s in %s, at %s", d.Rules.Name, f.version, inwords.Files(len(plan.Items)), plan.Path(path), d.Shown())
		a.hostWords(d)
		a.pageWords(courier, d, page)
		return &deliver.Status{
			Delivery: &logbook.Delivery{Line: logbook.Line{Destination: d.Name, Version: f.version, Fingerprint: b.Fingerprint}},
			Would:    rulebook.Sent,
		}, nil
	}
	if precompressed(b) {
		a.hostWords(d)
	}
	archive, err := plan.Write(ctx, path, a.screen.Progress())
	if err != nil {
		return nil, err
	}
	status, err := courier.Send(ctx, d, deliver.Parcel{Version: f.version, Fingerprint: b.Fingerprint, Archive: archive})
	if err != nil {
		return nil, err
	}
	a.screen.Line(
		"%s  %s",
		a.screen.In(term.Strong, "sent "+f.version+" to "+d.Rules.Name),
		a.screen.In(term.Quiet, fmt.Sprintf("%s, %s", archive.Path, settings.Size(archive.Bytes))),
	)
	if !deliver.Can(d, deliver.Headers) {
		a.screen.Line("  %s", took(status, archive.Entries))
	}
	if err := a.fillPage(ctx, courier, d, page, status); err != nil {
		return status, err
	}
	if !f.wait {
		a.became(status)
	}
	return status, nil
}

// precompressed reports whether a build has files that its host must say something of.
func precompressed(b *export.Build) bool {
	return slices.ContainsFunc(b.Parts(), func(f *export.File) bool { return f.Encoding != "" })
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
func took(st *deliver.Status, entries int) string {
	t := st.Took
	words := fmt.Sprintf("%s of %s sent, %s", inwords.Of(t.Files, "1", fmt.Sprint(t.Files)), inwords.Files(entries), settings.Size(t.Bytes))
	if t.Copied > 0 {
		words += fmt.Sprintf("; %d unchanged, copied on the host", t.Copied)
	}
	if t.Kept > 0 {
		words += fmt.Sprintf("; %d were there from an earlier try", t.Kept)
	}
	return words
}

// awaitAll follows deliveries until the portals have decided, and says what they decided. All have the same time: while one is waited
// for, the others decide, too.
func (a *console) awaitAll(
	ctx context.Context,
	p *project.Project,
	courier *deliver.Courier,
	sent []*deliver.Status,
	limit time.Duration,
) (failed error) {
	until := time.Now().Add(limit)
	for i, status := range sent {
		d := p.To[status.Destination]
		switch {
		case app.Awaited(d, status.State):
			a.screen.Line("waiting for %s to decide, %s at most", d.Rules.Name, inwords.Span(limit))
		case len(sent) > 1:
			a.screen.Line("%s", d.Rules.Name)
		}
		after, err := courier.Ask(ctx, d, status.Delivery, max(time.Until(until), 0))
		if err != nil {
			failed = errors.Join(failed, err)
			continue
		}
		sent[i] = after
		a.became(after)
		failed = errors.Join(failed, app.Decided(d, after, limit))
	}
	return failed
}

// became prints the state of one delivery.
func (a *console) became(st *deliver.Status) {
	s := a.screen
	s.Line("  state: %s", s.In(toneOf(st.State), st.State))
	for _, r := range st.Reasons {
		s.Paragraph(term.Plain, "    - ", "      ", term.Clean(r))
	}
	if link := st.Link(); link != "" {
		s.Line("  look at it: %s", term.Clean(link))
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

type deliveriesJSON struct {
	Deliveries []deliveryRow `json:"deliveries"`
}

type deliveryRow struct {
	Destination string   `json:"destination"`
	Version     string   `json:"version"`
	State       string   `json:"state"`
	Link        string   `json:"link"`
	Reasons     []string `json:"reasons"`
	Fingerprint string   `json:"fingerprint"`
	Sent        string   `json:"sent"`
	Live        any      `json:"live,omitempty"`
	Lacks       []string `json:"page_lacks,omitempty"`
	Would       string   `json:"would_be,omitempty"` // of a dry run: the state that it would have
}

func sentAt(s *deliver.Status) string {
	if s.Sent.IsZero() {
		return ""
	}
	return s.Sent.UTC().Format(time.RFC3339)
}

func (doc *deliveriesJSON) add(s *deliver.Status) {
	reasons := s.Reasons
	if reasons == nil {
		reasons = []string{}
	}
	doc.Deliveries = append(
		doc.Deliveries,
		deliveryRow{s.Destination, s.Version, s.State, s.Link(), reasons, s.Fingerprint, sentAt(s), nil, nil, s.Would},
	)
}
