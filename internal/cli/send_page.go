package cli

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"havvel/internal/app"
	"havvel/internal/cli/term"
	"havvel/internal/deliver"
	"havvel/internal/project"
)

// sendablePages renders the pages of those destinations whose rulebook says how to fill one in. The error says what a portal would
// refuse.
func (a *console) sendablePages(
	ctx context.Context,
	p *project.Project,
	destinations []*project.Destination,
	version string,
) (map[string]*deliver.Contents, error) {
	var with []*project.Destination
	for _, d := range destinations {
		if deliver.Can(d, deliver.Fill) && app.PageBegun(p) {
			with = append(with, d)
		}
	}
	pages, orders, err := app.Pages(ctx, p, with, version, a.screen.Progress())
	if err != nil {
		return nil, err
	}
	for i, d := range with {
		if err := app.PageRefused(p, d, pages[d.Name], orders[i]); err != nil {
			return nil, err
		}
	}
	return pages, nil
}

// sendPages fills in the pages of destinations, for the version that they have.
func (a *console) sendPages(ctx context.Context, p *project.Project, destinations []*project.Destination) error {
	courier := a.courier(p)
	doc := deliveriesJSON{Deliveries: []deliveryRow{}}
	var failed error
	for _, d := range destinations {
		status, err := a.sendPage(ctx, p, courier, d)
		if status != nil {
			doc.add(status)
		}
		failed = errors.Join(failed, err)
		if ctx.Err() != nil {
			return failed
		}
	}
	a.answer(doc)
	return failed
}

func (a *console) sendPage(ctx context.Context, p *project.Project, courier *deliver.Courier, d *project.Destination) (*deliver.Status, error) {
	if !deliver.Can(d, deliver.Fill) {
		return nil, deliver.No(d, deliver.Fill)
	}
	last, err := app.Last(courier, d)
	if err != nil {
		return nil, err
	}
	pages, err := a.sendablePages(ctx, p, []*project.Destination{d}, last.Version)
	if err != nil {
		return nil, err
	}
	if pages[d.Name] == nil {
		return nil, refused("there is nothing to fill the page on %s with", d.Rules.Name).Then("write it under [listing] in %s", project.Name)
	}
	if a.dryRun {
		a.pageWords(courier, d, pages[d.Name])
		return &deliver.Status{Delivery: last, Would: last.State}, nil
	}
	a.screen.Line("%s  %s", a.screen.In(term.Strong, d.Rules.Name), a.screen.In(term.Quiet, "has version "+last.Version))
	status := &deliver.Status{Delivery: last}
	return status, a.fillPage(ctx, courier, d, pages[d.Name], status)
}

// pageWords says what would be sent to a page.
func (a *console) pageWords(courier *deliver.Courier, d *project.Destination, page *deliver.Contents) {
	if page == nil {
		return
	}
	changed := courier.LastPage(d).Changed(page)
	words := "nothing of its page has changed"
	if len(changed) > 0 {
		words = "of its page: " + strings.Join(changed, ", ")
	}
	a.screen.Line("  %s", words)
	a.finals(courier, d, page)
}

// finals says what can't be undone of what is about to be sent.
func (a *console) finals(courier *deliver.Courier, d *project.Destination, page *deliver.Contents) {
	leaderboards := courier.NewLeaderboards(d, page.Page)
	for _, f := range d.Rules.Finals {
		switch {
		case f.What == "leaderboard" && len(leaderboards) > 0:
			a.screen.Paragraph(term.Careful, "  ", "    ", fmt.Sprintf("permanent: %s (new: %s)", f.Says, strings.Join(leaderboards, ", ")))
		case f.What == "declaration" && len(page.Declared()) > 0:
			a.screen.Paragraph(term.Careful, "  ", "    ", fmt.Sprintf("permanent: %s (declared: %s)", f.Says, strings.Join(page.Declared(), ", ")))
		}
	}
}

// fillPage sends what has changed of a page, and says so.
func (a *console) fillPage(
	ctx context.Context,
	courier *deliver.Courier,
	d *project.Destination,
	page *deliver.Contents,
	status *deliver.Status,
) error {
	if page == nil || !courier.Unfilled(d, page, status.Version) {
		return nil
	}
	a.finals(courier, d, page)
	filled, err := courier.Fill(ctx, d, page, status.Delivery)
	if err != nil {
		return fmt.Errorf("the page on %s is not filled in: %w", d.Rules.Name, err)
	}
	a.screen.Paragraph(term.Plain, "  ", "    ", "page: "+filledWords(filled))
	return nil
}

func filledWords(f *deliver.Filled) string {
	if len(f.Changed) == 0 {
		return "sent again for this version"
	}
	return strings.Join(f.Changed, ", ")
}

// firstTime says what can't be undone once the game is public, before it is for the first time.
func (a *console) firstTime(courier *deliver.Courier, d *project.Destination) {
	for _, says := range app.Permanent(courier, d) {
		a.screen.Paragraph(term.Careful, "", "  ", "permanent: "+says)
	}
}
