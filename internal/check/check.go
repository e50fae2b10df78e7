// Package check judges a build: each check is a value with an id, a text that teaches, and a Run that
// reports findings. The catalogue is all of them, one file a family. Fixing what is found is left to
// pack, showing it to cli.
package check

import (
	"slices"

	"havvel/internal/export"
	"havvel/internal/finding"
	"havvel/internal/hooks"
	"havvel/internal/rulebook"
)

// A Check looks for one thing that goes wrong.
type Check struct {
	ID     string // stable; starts with its family
	Title  string // one line, without a full stop
	Level  finding.Level
	Text   string // what happens to the player, why, and how to fix it
	Before string // an example that it reports
	After  string // the same, fixed
	Run    func(*Pass)
}

// A Subject is what is checked, and for whom.
type Subject struct {
	Build       *export.Build
	Destination string             // "" for no destination in particular
	Rules       *rulebook.Rulebook // nil without a destination
	Packed      bool               // the build goes out by havvel pack, which fixes some findings
	Plants      bool               // pack may plant the rulebook's scripts
	Inferred    hooks.Inferred     // what pack's adapter finds out by itself
	Heard       []string           // calls that a trial of this build heard
	Without     []string           // steps that pack must not take
	Accepts     []finding.Accept
	Version     string    // that the next send uploads; "" when it is not known
	Sent        []Sent    // to the destination, the latest last
	Statistics  []string  // names of those that havvel.toml declares
	Newest      Source    // of the project; zero when it is not known
	Page        PageFacts // the page; empty when it is not known
	Untried     string    // why there is no clean trial of the export, where the project wants one; else ""
}

// A Pass is one run of one check.
type Pass struct {
	Subject
	check    *Check
	findings *[]finding.Finding
}

// Catalogue returns all checks, in the order of families and then of what to fix first.
func Catalogue() []*Check {
	return slices.Concat(
		entryChecks,
		nameChecks,
		linkChecks,
		encodingChecks,
		weightChecks,
		memoryChecks,
		wasmChecks,
		pageChecks,
		mediaChecks,
		hookChecks,
		statisticChecks,
		leftoverChecks,
		freshChecks,
		listingChecks,
		pictureChecks,
	)
}

// Run runs the whole catalogue and returns the findings: errors first, then by check and place.
func Run(s Subject) []finding.Finding { return run(s, Catalogue()) }

// RunPage runs the checks of the game's page alone, for which no build is needed.
func RunPage(s Subject) []finding.Finding { return run(s, slices.Concat(listingChecks, pictureChecks)) }

func run(s Subject, checks []*Check) []finding.Finding {
	var findings []finding.Finding
	for _, c := range checks {
		c.Run(&Pass{s, c, &findings})
	}
	s.policy().Settle(findings)
	return findings
}

func (s Subject) policy() finding.Policy { return finding.Policy{Rules: s.Rules, Accepts: s.Accepts} }

// report adds a finding at the check's level.
func (p *Pass) report(f finding.Finding) {
	f.ID, f.Destination = p.check.ID, p.Destination
	if f.Level == "" {
		f.Level = p.check.Level
	}
	if f.FixedBy == "" {
		f.Level = p.policy().Level(f.ID, f.Level)
	}
	*p.findings = append(*p.findings, f)
}

// fixed adds a finding that pack fixes by itself: a note where the build goes out by pack, and at the
// check's level where it goes out by hand, or pack must not take that step. what says what pack does, byHand what to do
// without it.
func (p *Pass) fixed(f finding.Finding, step, what, byHand string) {
	f.Fix = byHand + ", or let havvel pack do it"
	if slices.Contains(p.Without, step) {
		f.Fix = byHand
	} else if p.Packed {
		f.Level, f.FixedBy, f.Fix = finding.Note, "pack", what
	}
	p.report(f)
}
