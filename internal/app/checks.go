package app

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"havvel/internal/check"
	"havvel/internal/deliver"
	"havvel/internal/export"
	"havvel/internal/fault"
	"havvel/internal/finding"
	"havvel/internal/inwords"
	"havvel/internal/listing"
	"havvel/internal/logbook"
	"havvel/internal/pictures"
	"havvel/internal/progress"
	"havvel/internal/project"
	"havvel/internal/rulebook"
	"havvel/internal/trial"
)

// Subjects are what check is asked about a build: one for each destination, or one for none. own says that it is the
// project's own export.
func Subjects(
	ctx context.Context,
	p *project.Project,
	b *export.Build,
	to []string,
	own bool,
	report progress.Reporter,
) ([]check.Subject, error) {
	if p == nil {
		if len(to) > 0 {
			return nil, fmt.Errorf("%w, so there is no destination %q", project.ErrNone, to[0])
		}
		return []check.Subject{{Build: b}}, nil
	}
	destinations, err := p.Destinations(to)
	if err != nil {
		return nil, err
	}
	if len(destinations) == 0 {
		return []check.Subject{{Build: b, Accepts: accepts(p)}}, nil
	}
	// A logbook that can't be read hinders sending, not checking.
	sent, _, _ := logbook.Open(p.Folder).Deliveries()
	path, changed := p.Newest()
	var contents map[string]*deliver.Contents
	var orders []*pictures.Order
	if own {
		if contents, orders, err = Pages(ctx, p, destinations, p.Game.Version, report); err != nil {
			return nil, err
		}
	}
	var list []check.Subject
	for i, d := range destinations {
		s := Subject(p, d, b)
		if own {
			s.Page = PageFacts(p, d, contents[d.Name], orders[i], sent)
			// history and project say nothing about an export that was named by hand
			s.Version, s.Newest, s.Untried = p.Game.Version, check.Source{Path: path, Changed: changed}, untried(p, d, b)
		}
		for _, l := range sent {
			if own && l.Destination == d.Name {
				s.Sent = append(s.Sent, check.Sent{Version: l.Version, Fingerprint: l.Fingerprint, State: l.State, At: l.Sent})
			}
		}
		list = append(list, s)
	}
	return list, nil
}

// Subject is what check is asked about a build that goes to a destination by pack.
func Subject(p *project.Project, d *project.Destination, b *export.Build) check.Subject {
	s := check.Subject{
		Build:       b,
		Destination: d.Name,
		Rules:       d.Rules,
		Packed:      true,
		Plants:      d.Plants(),
		Without:     slices.Clone(p.Pack.Without),
		Accepts:     accepts(p),
		Inferred:    InferredOf(p),
		Heard:       heardOf(p, d, b),
	}
	for _, x := range p.Statistics {
		s.Statistics = append(s.Statistics, x.Name)
	}
	return s
}

// accepts are the findings that a project has decided to live with.
func accepts(p *project.Project) []finding.Accept {
	var list []finding.Accept
	for _, a := range p.Accepts {
		list = append(list, finding.Accept{ID: a.ID, File: a.File, Reason: a.Reason})
	}
	return list
}

// Pages renders the page of each destination that has one, and cuts its pictures.
func Pages(
	ctx context.Context,
	p *project.Project,
	destinations []*project.Destination,
	version string,
	report progress.Reporter,
) (map[string]*deliver.Contents, []*pictures.Order, error) {
	all := map[string]*deliver.Contents{}
	orders, err := pictures.Make(ctx, p, destinations, report)
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

// PageFacts is what checks are told of a page.
func PageFacts(
	p *project.Project,
	d *project.Destination,
	c *deliver.Contents,
	o *pictures.Order,
	sent []*logbook.Delivery,
) check.PageFacts {
	facts := check.PageFacts{Texts: c.Problems, Pictures: o.Problems, Declared: c.Declared(), Begun: pageBegun(p)}
	for _, l := range sent {
		if other := p.To[l.Destination]; l.State == rulebook.Public && l.Destination != d.Name && other != nil &&
			!slices.Contains(facts.Elsewhere, other.Rules.Name) {
			facts.Elsewhere = append(facts.Elsewhere, other.Rules.Name)
		}
	}
	return facts
}

// pageBegun reports whether anything of the page was written.
func pageBegun(p *project.Project) bool {
	l := p.Listing
	return len(p.Pictures) > 0 || l.Tagline != "" || l.Description != "" || l.Category != "" || len(l.Tags) > 0 || len(l.Controls) > 0
}

// Lacks says briefly what a page is missing.
func Lacks(c *deliver.Contents, o *pictures.Order) []string {
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
		list = append(list, inwords.Of(n, "a declaration", fmt.Sprintf("%d declarations", n)))
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

// pageRefused are the findings for which a portal would refuse a page.
func pageRefused(p *project.Project, d *project.Destination, c *deliver.Contents, o *pictures.Order) error {
	bad, first := 0, ""
	for _, f := range check.RunPage(check.Subject{Destination: d.Name, Rules: d.Rules, Accepts: accepts(p),
		Page: PageFacts(p, d, c, o, nil)}) {
		if f.Level == finding.Error && f.Accepted == "" {
			if bad++; first == "" {
				first = f.Message
			}
		}
	}
	if bad == 0 {
		return nil
	}
	return fault.New(fault.No, "not sent to %s: its page has %s, such as: %s", d.Rules.Name,
		inwords.Of(bad, "an error", fmt.Sprintf("%d errors", bad)), first).
		Then("havvel listing --to %s shows them; --only build sends the build without the page", d.Name)
}

// untried says why there is no clean trial of an export for a destination, where the project wants one; else "".
func untried(p *project.Project, d *project.Destination, b *export.Build) string {
	if !p.Trial.Required {
		return ""
	}
	switch last := trial.Last(p.Folder, d.Name); {
	case last == nil || last.Fingerprint != b.Fingerprint:
		return "there is none"
	case !last.Clean():
		return "the last one found errors"
	case last.Untold():
		return "the last one couldn't tell whether the game starts"
	}
	return ""
}
