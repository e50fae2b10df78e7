package cli

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"havvel/internal/app"
	"havvel/internal/cli/term"
	"havvel/internal/deliver"
	"havvel/internal/fault"
	"havvel/internal/inwords"
	"havvel/internal/logbook"
	"havvel/internal/project"
	"havvel/internal/rulebook"
)

func (a *console) where() *cobra.Command {
	var f whereFlags
	c := a.new(command{
		use:   "where",
		short: "Every destination, its version, state and link",
		long: "Where asks each destination for the state of the last version that was sent, and shows it; and the public one, where that\n" +
			"is another. With --wait it asks until the portal has decided; with --live it fetches what players get, and compares every\n" +
			"file with what was sent; with --share it prints lines to paste. A destination that can't be reached is shown as the logbook has it.",
		example: "  havvel where\n  havvel where --wait --to brackwater",
		args:    cobra.NoArgs,
		run:     func(ctx context.Context, _ []string) error { return a.runWhere(ctx, f) },
	})
	a.withWait(c, &f.wait, &f.limit)
	c.Flags().BoolVar(&f.all, "all", false, "list all versions that the destinations have, also those that others sent")
	c.Flags().BoolVar(&f.live, "live", false, "fetch what players get, and compare it with what was sent")
	c.Flags().BoolVar(&f.share, "share", false, "print lines with the link to paste, and a code for phones")
	c.Flags().BoolVar(&f.password, "password", false, "with --share, tell the page's password, too")
	a.withNotice(c)
	a.withTo(c)
	a.withDryRun(c, "show what the logbook knows, and ask nobody")
	return c
}

type whereFlags struct {
	wait, all, live, share, password bool
	limit                            time.Duration
}

func (a *console) runWhere(ctx context.Context, f whereFlags) error {
	p, destinations, err := a.destinations()
	if err != nil {
		return err
	}
	courier := a.courier(p)
	if f.all {
		return a.runWhereAll(ctx, courier, destinations)
	}
	a.warnUnread(courier.Book)
	latest, err := courier.Latest(destinations)
	if err != nil {
		return err
	}
	if !f.wait {
		f.limit = 0
	}
	missing, err := a.lacking(ctx, p, destinations)
	if err != nil {
		return err
	}
	doc := deliveriesJSON{Deliveries: []deliveryRow{}}
	var shown []*deliver.Status
	var failed error
	until := time.Now().Add(f.limit)
	for _, l := range latest {
		status, err := a.ask(ctx, courier, p.To[l.Destination], l, f.limit, until)
		failed = errors.Join(failed, err)
		if ctx.Err() != nil {
			return failed
		}
		if status.State != l.State {
			a.notice(ctx, status)
		}
		doc.add(status)
		doc.Deliveries[len(doc.Deliveries)-1].Lacks = missing[l.Destination]
		shown = append(shown, status)
	}
	a.showWhere(p, destinations, shown)
	a.showLacks(destinations, missing)
	if f.live {
		failed = errors.Join(failed, a.lookAtAll(ctx, courier, p, shown, &doc))
	}
	a.answer(doc)
	for _, st := range shown {
		if f.share && st.State != rulebook.Replaced && st.State != rulebook.Withdrawn {
			a.share(p, st, f.password)
		}
	}
	if !f.share {
		a.next(app.Next(p, shown))
	}
	return failed
}

// lacking says what the page of each destination still lacks.
func (a *console) lacking(ctx context.Context, p *project.Project, destinations []*project.Destination) (map[string][]string, error) {
	all := map[string][]string{}
	if !app.PageBegun(p) {
		return all, nil
	}
	pages, orders, err := app.Pages(ctx, p, destinations, p.Game.Version, a.screen.Progress())
	if err != nil {
		return nil, err
	}
	for i, d := range destinations {
		if list := app.Lacks(pages[d.Name], orders[i]); len(list) > 0 {
			all[d.Name] = list
		}
	}
	return all, nil
}

func (a *console) showLacks(destinations []*project.Destination, missing map[string][]string) {
	for _, d := range destinations {
		if list := missing[d.Name]; len(list) > 0 {
			a.screen.Paragraph(
				term.Careful,
				"  ",
				"    ",
				fmt.Sprintf("the page on %s lacks: %s  (havvel listing --show %s)", d.Rules.Name, strings.Join(list, ", "), d.Name),
			)
		}
	}
}

type versionsJSON struct {
	Destination string          `json:"destination"`
	Versions    []deliver.Known `json:"versions"`
}

// runWhereAll lists what the destinations have. One that can't say is passed over, and named.
func (a *console) runWhereAll(ctx context.Context, courier *deliver.Courier, destinations []*project.Destination) error {
	doc := []versionsJSON{}
	var rows [][]string
	var failed error
	for _, d := range destinations {
		list, err := courier.Versions(ctx, d)
		if err != nil {
			failed = errors.Join(failed, err)
			continue
		}
		doc = append(doc, versionsJSON{d.Name, append([]deliver.Known{}, list...)})
		for _, k := range list {
			rows = append(rows, []string{d.Name, term.Clean(k.Version), a.screen.In(toneOf(k.State), term.Clean(k.State))})
		}
	}
	a.answer(map[string]any{"destinations": doc})
	a.screen.Table([]string{"destination", "version", "state"}, rows)
	return failed
}

// noLink says why there is no link.
func noLink(d *project.Destination) string {
	if !deliver.Can(d, deliver.Headers) && d.Public == "" {
		return fmt.Sprintf("not known (public under [to.%s])", d.Name)
	}
	return "none yet"
}

// lookAtAll fetches what players get of each public delivery.
func (a *console) lookAtAll(
	ctx context.Context,
	courier *deliver.Courier,
	p *project.Project,
	shown []*deliver.Status,
	doc *deliveriesJSON,
) error {
	var failed error
	for i, st := range shown {
		if st.State != rulebook.Public {
			continue
		}
		d := p.To[st.Destination]
		seen, err := courier.Look(ctx, d, st.Delivery)
		if err != nil {
			failed = errors.Join(failed, err)
			continue
		}
		doc.Deliveries[i].Live = seen
		a.showLive(d, seen)
		if len(seen.Differences) > 0 {
			failed = errors.Join(failed, fault.Said)
		}
	}
	return failed
}

// ask asks about one delivery; one that can't be asked about is shown as the logbook knows it.
func (a *console) ask(
	ctx context.Context,
	courier *deliver.Courier,
	d *project.Destination,
	l *logbook.Delivery,
	limit time.Duration,
	until time.Time,
) (*deliver.Status, error) {
	known := &deliver.Status{Delivery: l}
	if a.dryRun {
		return known, nil
	}
	if limit > 0 && app.Awaited(d, l.State) {
		a.screen.Line("waiting for %s to decide, %s at most", d.Rules.Name, inwords.Span(limit))
	}
	status, err := courier.Ask(ctx, d, l, max(time.Until(until), 0))
	if err != nil {
		return known, err
	}
	if limit == 0 {
		return status, nil
	}
	return status, app.Decided(d, status, limit)
}

func (a *console) showWhere(p *project.Project, destinations []*project.Destination, shown []*deliver.Status) {
	s := a.screen
	var rows [][]string
	for _, d := range destinations {
		sent := false
		for _, st := range shown {
			if st.Destination != d.Name {
				continue
			}
			sent = true
			link := term.Clean(st.Link())
			if link == "" {
				link = s.In(term.Quiet, noLink(d))
			}
			rows = append(rows, []string{d.Name, st.Version, s.In(toneOf(st.State), st.State), when(st.At), term.Clean(st.By), link})
		}
		if !sent {
			rows = append(rows, []string{d.Name, "", s.In(term.Quiet, "nothing sent"), "", "", ""})
		}
	}
	s.Table([]string{"destination", "version", "state", "since", "by", "link"}, rows)
	for _, st := range shown {
		for _, r := range st.Reasons {
			s.Paragraph(term.Plain, "  "+st.Destination+": ", "    ", term.Clean(r))
		}
	}
}

// toFlags are the flags with which the command line named its destinations.
func (a *console) toFlags() string {
	if len(a.to) == 0 {
		return ""
	}
	return " --to " + strings.Join(a.to, " --to ")
}

// when says a time of the recent past briefly.
func when(t time.Time) string {
	if time.Since(t) < 20*time.Hour {
		return t.Local().Format("15:04")
	}
	return t.Local().Format("2 Jan 15:04")
}

func (a *console) warnUnread(book *logbook.Book) {
	if _, unread, err := book.Deliveries(); err == nil && unread > 0 {
		a.screen.Warn(
			"%d %s of the logbook can't be read and %s passed over; a crash may have cut it short",
			unread,
			inwords.Of(unread, "line", "lines"),
			inwords.Of(unread, "is", "are"),
		)
	}
}
