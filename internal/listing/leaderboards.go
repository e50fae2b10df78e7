package listing

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"havvel/internal/project"
)

// leaderboards makes leaderboards of the project's statistics, with labels in the page's language where there are any.
func (page *Page) leaderboards(p *project.Project, labels map[string]string) {
	r := page.Rules.Leaderboards
	if r == nil {
		return
	}
	for _, x := range p.Statistics {
		b := Leaderboard{Name: x.Name, Label: cmp.Or(labels[x.Name], x.Label, x.Name), Keeps: x.Keeps, Unit: x.Unit, Hidden: x.Hidden}
		if len(r.Keeps) > 0 && !slices.Contains(r.Keeps, x.Keeps) {
			page.say(
				NoLeaderboard,
				"statistic",
				fmt.Sprintf("%s has no leaderboard that keeps the %s value, which %q wants", page.Rules.Name, x.Keeps, x.Name),
				"it can keep "+strings.Join(r.Keeps, ", "),
			)
		}
		if theirs, ok := r.Words[x.Keeps]; ok {
			b.Keeps = theirs
		}
		if n := Count(b.Label, ""); r.Limit > 0 && n > r.Limit {
			page.say(
				NoLeaderboard,
				"statistic",
				fmt.Sprintf("the label %q has %d characters; %s takes %d", b.Label, n, page.Rules.Name, r.Limit),
				"write a shorter label",
			)
		}
		page.Leaderboards = append(page.Leaderboards, b)
	}
	if r.Most > 0 && len(page.Leaderboards) > r.Most {
		page.say(
			NoLeaderboard,
			"statistic",
			fmt.Sprintf("there are %d statistics; %s has %d leaderboards at most", len(page.Leaderboards), page.Rules.Name, r.Most),
			"decide which ones players should see there",
		)
	}
}

// declare compares what the developer states with what the portal asks for.
func (page *Page) declare(p *project.Project, d *project.Destination, version string) {
	states, stale := p.Declared(d, version)
	var known []string
	for _, r := range d.Rules.Declarations {
		known = append(known, r.Name)
		declared := slices.Contains(states, r.Name)
		page.Declarations = append(page.Declarations, Declaration{r.Name, r.Says, declared})
		if declared || !r.Required {
			continue
		}
		fix := fmt.Sprintf("if it is so, add it to declare under [declarations], with version = %q", version)
		if stale {
			fix = fmt.Sprintf("what [declarations] says is about another version; if it still holds, write version = %q there", version)
		}
		page.say(Undeclared, "declarations", fmt.Sprintf("%s (%s)", r.Name, r.Says), fix)
	}
	if d.Declarations == nil || d.Declarations.Version != version {
		return
	}
	for _, name := range d.Declarations.Declare {
		if !slices.Contains(known, name) {
			fix := page.Rules.Name + " asks for none"
			if len(known) > 0 {
				fix = "it asks for " + strings.Join(known, ", ")
			}
			page.say(Unknown, "declarations", fmt.Sprintf("%s does not ask for %q", page.Rules.Name, name), fix)
		}
	}
}
