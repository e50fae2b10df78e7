package check

import (
	"fmt"
	"slices"
	"strings"

	"havvel/internal/export"
	"havvel/internal/export/script"
	"havvel/internal/finding"
	"havvel/internal/hooks"
	"havvel/internal/settings"
)

var statisticChecks = []*Check{
	{
		ID:    "statistic-unsent",
		Title: "A statistic is declared and never sent",
		Level: finding.Warning,
		Text: "havvel.toml declares a statistic, but no script of the build sends one of that name by the portal's function. A name that " +
			"differs by one letter is " +
			"another statistic to the portal, and the leaderboard stays empty. Write the name the same way in both places.",
		Before: `name = "best-score" in havvel.toml, Portal.score("bestscore", 12) in the game`,
		After:  `Portal.score("best-score", 12)`,
		Run: func(p *Pass) {
			sent, known := sentStatistics(p)
			if !known {
				return
			}
			for _, name := range p.Statistics {
				if slices.Contains(sent, name) {
					continue
				}
				f := finding.Finding{
					Message: fmt.Sprintf("%q is declared in havvel.toml, and no script sends it", name),
					Fix:     "send it in the game, or take it out of havvel.toml",
				}
				if near := settings.Nearest(name, sent); near != "" {
					f.Fix = fmt.Sprintf("the game sends %q: write the name the same way in both places", near)
				}
				p.report(f)
			}
		},
	},
	{
		ID:    "statistic-undeclared",
		Title: "A statistic is sent and never declared",
		Level: finding.Warning,
		Text: "A script sends a statistic that havvel.toml does not declare. Portals drop values for leaderboards that they don't know, " +
			"without a word. Declare it, with " +
			"which value is kept.",
		Before: `Portal.score("moves", 7) in the game, and no such statistic in havvel.toml`,
		After:  `[[statistic]] name = "moves", keeps = "lowest"`,
		Run: func(p *Pass) {
			sent, known := sentStatistics(p)
			if !known {
				return
			}
			for _, name := range sent {
				if !slices.Contains(p.Statistics, name) {
					p.report(
						finding.Finding{
							Message: fmt.Sprintf("a script sends %q, which havvel.toml does not declare", name),
							Fix:     fmt.Sprintf("declare it in havvel.toml: [[statistic]] with name = %q, and which value is kept", name),
						},
					)
				}
			}
		},
	},
}

// sentStatistics lists the names of statistics that scripts send by the portal's function. known is false when that can't
// be told: the portal takes none, or a script sends one whose name it puts together.
func sentStatistics(p *Pass) (names []string, known bool) {
	if p.Rules == nil {
		return nil, false
	}
	for _, h := range p.Rules.Hooks {
		for _, c := range h.At("statistic") {
			known = true
			if !sentBy(p, c.Call, &names) {
				return nil, false
			}
		}
	}
	return names, known && !hooks.Sends(p.Build, "statistic") // of those that are sent, a trial tells the names
}

// sentBy adds the names that a call sends; it returns false when a script puts one together.
func sentBy(p *Pass, call string, names *[]string) bool {
	for _, s := range scriptsOf(p.Build) {
		_, called := s.Calls[call]
		args := s.Args[call]
		if called && len(args) == 0 {
			return false
		}
		for _, a := range args {
			if strings.Contains(a, "*") {
				return false
			}
			if !slices.Contains(*names, a) {
				*names = append(*names, a)
			}
		}
	}
	return true
}

// scriptsOf lists the scripts of a build, those that stand in pages too.
func scriptsOf(b *export.Build) []*script.Script {
	var list []*script.Script
	for _, f := range b.Parts() {
		if f.Script != nil {
			list = append(list, f.Script)
		}
		if f.Page != nil {
			list = append(list, f.Page.Inline)
		}
	}
	return list
}
