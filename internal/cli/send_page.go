package cli

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"havvel/internal/cli/term"
	"havvel/internal/deliver"
	"havvel/internal/project"
	"havvel/internal/rulebook"
)

// sendablePages renders the pages of those destinations whose rulebook says how to fill one in. The error says what a portal would
// refuse.
func (a *app) sendablePages(ctx context.Context, p *project.Project, destinations []*project.Destination, version string) (map[string]*deliver.Contents, error) {
	var with []*project.Destination
	for _, d := range destinations {
		if len(d.Rules.Fill) > 0 && begun(p) {
			with = append(with, d)
		}
	}
	pages, orders, err := a.pages(ctx, p, with, version)
	if err != nil {
		return nil, err
	}
	for i, d := range with {
		if err := pageErrors(p, d, pages[d.Name], orders[i]); err != nil {
			return nil, err
		}
	}
	return pages, nil
}

// sendPages fills in the pages of destinations, for the version that they have.
func (a *app) sendPages(ctx context.Context, p *project.Project, destinations []*project.Destination) error {
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
	if a.json && !a.dryRun {
		return errors.Join(a.screen.JSON(doc), failed)
	}
	return failed
}

func (a *app) sendPage(ctx context.Context, p *project.Project, courier *deliver.Courier, d *project.Destination) (*deliver.Status, error) {
	if len(d.Rules.Fill) == 0 {
		if d.SiteAddress() != nil {
			return nil, &notReady{fmt.Sprintf("%s is a site, which has no page around the game", d.Name)}
		}
		return nil, &deliver.NoWay{Destination: d.Name, Portal: d.Rules.Name, What: "fill in the game's page", Key: "fill"}
	}
	last, err := lastOf(courier, d)
	if err != nil {
		return nil, err
	}
	pages, err := a.sendablePages(ctx, p, []*project.Destination{d}, last.Version)
	if err != nil {
		return nil, err
	}
	if pages[d.Name] == nil {
		return nil, &notReady{fmt.Sprintf("there is nothing to fill the page on %s with\n  write it under [listing] in %s", d.Rules.Name, project.Name)}
	}
	if a.dryRun {
		a.pageWords(courier, d, pages[d.Name])
		return nil, nil
	}
	if !a.json {
		a.screen.Line("%s  %s", a.screen.In(term.Strong, d.Rules.Name), a.screen.In(term.Quiet, "has version "+last.Version))
	}
	status := &deliver.Status{Delivery: last}
	return status, a.fillPage(ctx, courier, d, pages[d.Name], status)
}

// pageWords says what would be sent to a page.
func (a *app) pageWords(courier *deliver.Courier, d *project.Destination, page *deliver.Contents) {
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
func (a *app) finals(courier *deliver.Courier, d *project.Destination, page *deliver.Contents) {
	boards := courier.NewBoards(d, page.Page)
	for _, f := range d.Rules.Finals {
		switch {
		case f.What == "board" && len(boards) > 0:
			a.screen.Paragraph(term.Careful, "  ", "    ", fmt.Sprintf("for good: %s (new: %s)", f.Says, strings.Join(boards, ", ")))
		case f.What == "declaration" && len(page.Stated()) > 0:
			a.screen.Paragraph(term.Careful, "  ", "    ", fmt.Sprintf("for good: %s (stated: %s)", f.Says, strings.Join(page.Stated(), ", ")))
		}
	}
}

// fillPage sends what has changed of a page, and says so.
func (a *app) fillPage(ctx context.Context, courier *deliver.Courier, d *project.Destination, page *deliver.Contents, status *deliver.Status) error {
	if page == nil || !courier.Unfilled(d, page, status.Version) {
		return nil
	}
	if !a.json {
		a.finals(courier, d, page)
	}
	filled, err := courier.Fill(ctx, d, page, status.Delivery)
	if err != nil {
		return fmt.Errorf("the page on %s is not filled in: %w", d.Rules.Name, err)
	}
	if !a.json {
		a.screen.Paragraph(term.Plain, "  ", "    ", "page: "+filledWords(filled))
	}
	return nil
}

func filledWords(f *deliver.Filled) string {
	if len(f.Changed) == 0 {
		return "sent again for this version"
	}
	return strings.Join(f.Changed, ", ")
}

// firstTime says what can't be undone once the game is public, before it is for the first time.
func (a *app) firstTime(courier *deliver.Courier, d *project.Destination) {
	if a.json {
		return
	}
	all, _, err := courier.Book.Deliveries()
	if err != nil {
		return
	}
	for _, l := range all {
		if l.Destination == d.Name && (l.State == rulebook.Public || l.State == rulebook.Replaced || l.State == rulebook.Withdrawn) {
			return
		}
	}
	for _, f := range d.Rules.Finals {
		if f.What == "short" {
			a.screen.Paragraph(term.Careful, "", "  ", fmt.Sprintf("for good: %s (%s)", f.Says, courier.Project.Game.Short))
		}
	}
}
