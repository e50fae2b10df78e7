package cli

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"havvel/internal/check"
	"havvel/internal/deliver"
	"havvel/internal/finding"
	"havvel/internal/listing"
	"havvel/internal/logbook"
	"havvel/internal/pictures"
	"havvel/internal/project"
	"havvel/internal/rulebook"
)

// pages renders the page of each destination that has one, and cuts its pictures.
func (a *app) pages(ctx context.Context, p *project.Project, destinations []*project.Destination, version string) (map[string]*deliver.Contents, []*pictures.Order, error) {
	all := map[string]*deliver.Contents{}
	orders, err := pictures.Make(ctx, p, destinations, a.screen.Progress())
	if err != nil {
		return nil, nil, err
	}
	for i, d := range destinations {
		page, err := listing.Read(p, d, version)
		if err != nil {
			return nil, nil, err
		}
		all[d.Name] = &deliver.Contents{Page: page, Pictures: orders[i].Cuts}
	}
	return all, orders, nil
}

// paperOf is what checks are told of a page.
func paperOf(p *project.Project, d *project.Destination, c *deliver.Contents, o *pictures.Order, sent []*logbook.Delivery) check.Paper {
	paper := check.Paper{Texts: c.Problems, Pictures: o.Problems, Stated: c.Stated(), Begun: begun(p)}
	for _, l := range sent {
		if other := p.To[l.Destination]; l.State == rulebook.Public && l.Destination != d.Name && other != nil && !slices.Contains(paper.Elsewhere, other.Rules.Name) {
			paper.Elsewhere = append(paper.Elsewhere, other.Rules.Name)
		}
	}
	return paper
}

// begun reports whether anything of the page was written.
func begun(p *project.Project) bool {
	l := p.Listing
	return len(p.Pictures) > 0 || l.Tagline != "" || l.Description != "" || l.Category != "" || len(l.Tags) > 0 || len(l.Controls) > 0
}

// lacks says briefly what a page is missing.
func lacks(c *deliver.Contents, o *pictures.Order) []string {
	list := []string{}
	for _, t := range c.Problems {
		if t.Kind == listing.Missing {
			list = append(list, strings.TrimPrefix(t.Message, "the page has no "))
		}
	}
	for _, x := range o.Problems {
		if x.Kind == pictures.Missing {
			list = append(list, strings.TrimPrefix(x.Message, "there is no "))
		}
	}
	if n := count(c.Problems, listing.Undeclared); n > 0 {
		list = append(list, does(n, "a statement", fmt.Sprintf("%d statements", n)))
	}
	return list
}

func count(list []listing.Problem, k listing.Kind) int {
	n := 0
	for _, x := range list {
		if x.Kind == k {
			n++
		}
	}
	return n
}

// badPage says that a page would be refused.
type badPage struct {
	portal, destination, first string
	errors                     int
}

func (e *badPage) Error() string {
	return fmt.Sprintf("not sent to %s: its page has %s, such as: %s\n  havvel listing --to %s shows them; --only build sends the build without the page", e.portal, does(e.errors, "an error", fmt.Sprintf("%d errors", e.errors)), e.first, e.destination)
}

// pageErrors are the findings for which a portal would refuse a page.
func pageErrors(p *project.Project, d *project.Destination, c *deliver.Contents, o *pictures.Order) error {
	bad := &badPage{portal: d.Rules.Name, destination: d.Name}
	for _, f := range check.RunPage(check.Subject{Destination: d.Name, Rules: d.Rules, Accepts: accepts(p), Paper: paperOf(p, d, c, o, nil)}) {
		if f.Level == finding.Error && f.Accepted == "" {
			if bad.errors++; bad.first == "" {
				bad.first = f.Message
			}
		}
	}
	if bad.errors > 0 {
		return bad
	}
	return nil
}
