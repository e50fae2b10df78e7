package cli

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"github.com/spf13/cobra"

	"havvel/internal/cli/term"
	"havvel/internal/deliver"
	"havvel/internal/export"
	"havvel/internal/project"
	"havvel/internal/rulebook"
	"havvel/internal/settings"
	"havvel/internal/trial"
)

// sendFlags are what send takes besides what all commands take.
type sendFlags struct {
	choices packChoices
	version string
	again   bool
	only    string
	wait    bool
	limit   time.Duration
}

func (a *app) send() *cobra.Command {
	var f sendFlags
	c := a.new(command{
		use:   "send [EXPORT]",
		short: "Upload this version",
		long: "Send checks the export, packs it, uploads it to each destination, and fills in its page there with what has changed of it. An\n" +
			"export with errors is not sent, nor one that was sent before; then only the page goes, if that has changed. What was sent is\n" +
			"written into the logbook; havvel where says what became of it.",
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
	a.withJSON(c)
	a.withDryRun(c, "check and say what would be sent, and send nothing")
	return c
}

func (a *app) withWait(c *cobra.Command, wait *bool, limit *time.Duration) {
	c.Flags().BoolVarP(wait, "wait", "w", false, "wait until the portal has decided")
	c.Flags().DurationVar(limit, "limit", 2*time.Minute, "with --wait, the longest `time` to wait")
}

func (a *app) runSend(ctx context.Context, args []string, f sendFlags) error {
	p, destinations, err := a.destinations()
	if err != nil {
		return err
	}
	if f.only != "" {
		if err := settings.Within("--only", f.only, "build", "page"); err != nil {
			return &usage{err.Error(), "havvel send"}
		}
	}
	if f.only == "page" {
		return a.sendPages(ctx, p, destinations)
	}
	if f.version, err = chosenVersion(p, f.version); err != nil {
		return err
	}
	_, b, err := a.subject(ctx, args, exact)
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
	var pageOnly []*project.Destination
	if !f.again {
		if destinations, pageOnly, err = a.unsent(courier, destinations, pages, f.version, b.Fingerprint); err != nil {
			return err
		}
	}
	for _, d := range destinations { // all of them before the first byte goes out
		if err := a.sendable(p, d, b, courier, f); err != nil {
			return err
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
	if f.wait {
		failed = errors.Join(failed, a.awaitAll(ctx, p, courier, shown, f.limit))
	}
	doc := deliveriesJSON{Deliveries: []deliveryRow{}}
	for _, status := range shown {
		doc.add(status)
		a.notice(ctx, status)
	}
	switch {
	case a.json && !a.dryRun:
		if err := a.screen.JSON(doc); err != nil {
			return err
		}
	case len(shown) > 0:
		a.nextOf(p, shown)
	}
	return failed
}

// unsent are the destinations that lack this version of this export, when there are any; so a command that failed at one of
// several can be run again.
//
// pageOnly are those that have it, and lack what has changed of their page.
func (a *app) unsent(courier *deliver.Courier, destinations []*project.Destination, pages map[string]*deliver.Contents, version, fingerprint string) (left, pageOnly []*project.Destination, err error) {
	var have []*project.Destination
	for _, d := range destinations {
		var before *deliver.AlreadySent
		err := courier.Fresh(d, version, fingerprint)
		if errors.As(err, &before) && before.Same && before.Before.Version == version && before.Before.State != rulebook.Refused {
			if page := pages[d.Name]; page != nil && courier.Unfilled(d, page, version) {
				pageOnly = append(pageOnly, d)
			} else {
				have = append(have, d)
			}
			continue
		}
		if err != nil && before == nil {
			return nil, nil, err
		}
		left = append(left, d)
	}
	if len(left) == 0 && len(pageOnly) == 0 {
		return destinations, nil, nil // which then is refused
	}
	for _, d := range have {
		if !a.json {
			a.screen.Line("%s has version %s of this export already", d.Rules.Name, version)
		}
	}
	return left, pageOnly, nil
}

// sendable says what forbids sending a build to a destination.
func (a *app) sendable(p *project.Project, d *project.Destination, b *export.Build, courier *deliver.Courier, f sendFlags) error {
	if len(d.Rules.Send) == 0 && d.SiteAddress() == nil {
		return fmt.Errorf("can't send to %s: its rulebook has no [[send]] steps\n  havvel pack may write the archive, to be uploaded by hand", d.Rules.Name)
	}
	if _, err := a.wanted(p, d, b, f.version, f.choices); err != nil {
		return err
	}
	if why := untriedWhy(p, d, b); why != "" && !f.choices.acceptErrors {
		return &untried{d.Rules.Name, why}
	}
	if !f.again {
		if err := courier.Fresh(d, f.version, b.Fingerprint); err != nil {
			return err
		}
	}
	if _, err := d.Secret(); err != nil && !a.dryRun {
		return err
	}
	return nil
}

// untried says that the project wants a clean trial, and there is none of this export.
type untried struct {
	portal, why string
}

func (e *untried) Error() string {
	return fmt.Sprintf("not sent to %s: havvel.toml wants a clean trial of this export, and %s\n  run havvel trial first", e.portal, e.why)
}

// untriedWhy says why there is no clean trial of an export for a destination, where the project wants one; else "".
func untriedWhy(p *project.Project, d *project.Destination, b *export.Build) string {
	if !p.Trial.Required {
		return ""
	}
	switch last := trial.Last(p.Folder, d.Name); {
	case last == nil || last.Fingerprint != b.Fingerprint:
		return "there is none"
	case !last.Clean():
		return "the last one found errors"
	}
	return ""
}

func (a *app) sendOne(ctx context.Context, p *project.Project, d *project.Destination, b *export.Build, page *deliver.Contents, courier *deliver.Courier, f sendFlags) (*deliver.Status, error) {
	plan, done, err := a.planFor(ctx, p, d, b, f.version, f.choices)
	if err != nil {
		return nil, err
	}
	defer done()
	path := archivePath(p, d, "", f.version)
	if a.dryRun {
		a.screen.Line("%s would get version %s: %s in %s, at %s", d.Rules.Name, f.version, files(len(plan.Items)), plan.Path(path), d.Shown())
		a.hostWords(d)
		a.pageWords(courier, d, page)
		return nil, nil
	}
	if precompressed(b) && !a.json {
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
	if !a.json {
		a.screen.Line("%s  %s", a.screen.In(term.Strong, "sent "+f.version+" to "+d.Rules.Name), a.screen.In(term.Quiet, fmt.Sprintf("%s, %s", archive.Path, settings.Size(archive.Bytes))))
		if d.SiteAddress() != nil {
			a.screen.Line("  %s", took(status, archive.Entries))
		}
	}
	if err := a.fillPage(ctx, courier, d, page, status); err != nil {
		return status, err
	}
	if !f.wait && !a.json {
		a.tell(status)
	}
	return status, nil
}

// precompressed reports whether a build has files that its host must say something of.
func precompressed(b *export.Build) bool {
	return slices.ContainsFunc(b.Parts(), func(f *export.File) bool { return f.Encoding != "" })
}

// hostWords says what a site does to builds, since it sets no headers by itself.
func (a *app) hostWords(d *project.Destination) {
	if d.SiteAddress() == nil {
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
	words := fmt.Sprintf("%s of %s sent, %s", does(t.Files, "1", fmt.Sprint(t.Files)), files(entries), settings.Size(t.Bytes))
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
func (a *app) awaitAll(ctx context.Context, p *project.Project, courier *deliver.Courier, sent []*deliver.Status, limit time.Duration) (failed error) {
	until := time.Now().Add(limit)
	for i, status := range sent {
		d := p.To[status.Destination]
		switch {
		case a.json:
		case awaited(d, status.State):
			a.screen.Line("waiting for %s to decide, %s at most", d.Rules.Name, term.Span(limit))
		case len(sent) > 1:
			a.screen.Line("%s", d.Rules.Name)
		}
		after, err := courier.Ask(ctx, d, status.Delivery, max(time.Until(until), 0))
		if err != nil {
			failed = errors.Join(failed, err)
			continue
		}
		sent[i] = after
		if !a.json {
			a.tell(after)
		}
		failed = errors.Join(failed, decided(d, after, limit))
	}
	return failed
}

// awaited reports whether a destination can be asked when it decides on a version.
func awaited(d *project.Destination, state string) bool {
	return deliver.Undecided(state) && (d.SiteAddress() != nil || len(d.Rules.Follow) > 0)
}

// decided is the error for a delivery that was refused, or is not decided within the limit.
func decided(d *project.Destination, s *deliver.Status, limit time.Duration) error {
	switch {
	case s.State == rulebook.Refused:
		return &silent{answerNo}
	case awaited(d, s.State):
		return &undecided{d.Rules.Name, s.Version, s.State, limit, "nothing is lost; havvel where --wait asks again"}
	}
	return nil
}

// undecided says that a portal took longer than we wanted to wait.
type undecided struct {
	portal, version, state string
	limit                  time.Duration
	next                   string
}

func (e *undecided) Error() string {
	return fmt.Sprintf("%s has not decided on version %s within %s (state: %s)\n  %s", e.portal, e.version, term.Span(e.limit), e.state, e.next)
}

// tell says what became of one delivery.
func (a *app) tell(st *deliver.Status) {
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
}

func (doc *deliveriesJSON) add(s *deliver.Status) {
	reasons := s.Reasons
	if reasons == nil {
		reasons = []string{}
	}
	doc.Deliveries = append(doc.Deliveries, deliveryRow{s.Destination, s.Version, s.State, s.Link(), reasons, s.Fingerprint, s.Sent.UTC().Format(time.RFC3339), nil, nil})
}
