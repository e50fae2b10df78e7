// Package check judges a build: each check is a value with an id, a text that teaches, and a Run that
// reports findings. The catalogue is all of them, one file a family. Mending what is found is left to
// pack, showing it to cli.
package check

import (
	"cmp"
	"path"
	"slices"

	"havvel/internal/export"
	"havvel/internal/rulebook"
)

// Level says how bad a finding is.
type Level string

// The levels. An error is certain: the build would not work, or be refused.
const (
	Error   Level = "error"
	Warning Level = "warning"
	Note    Level = "note"
)

// A Check looks for one thing that goes wrong.
type Check struct {
	ID     string // stable; starts with its family
	Title  string // one line, without a full stop
	Level  Level
	Text   string // what happens to the player, why, and how to fix it
	Before string // an example that it reports
	After  string // the same, mended
	Run    func(*Pass)
}

// A Finding is what a check has to say about one place.
type Finding struct {
	ID          string `json:"id"`
	Level       Level  `json:"level"`
	File        string `json:"file"`        // inside the export; "" when it is about the whole
	Line        int    `json:"line"`        // from 1; 0 when there is none
	Column      int    `json:"column"`      // likewise
	Message     string `json:"message"`     // what is wrong, and what that does
	Fix         string `json:"fix"`         // what to do
	Destination string `json:"destination"` // "" when it holds anywhere
	MendedBy    string `json:"mended_by"`   // "pack" when packing mends it, else ""
	Accepted    string `json:"accepted"`    // the developer's reason to live with it, or ""
}

// A Subject is what is checked, and for whom.
type Subject struct {
	Build       *export.Build
	Destination string             // "" for no destination in particular
	Rules       *rulebook.Rulebook // nil without a destination
	Packed      bool               // the build goes out by havvel pack, which mends some findings
	Plants      bool               // pack may plant the rulebook's scripts
	Without     []string           // steps that pack must not take
	Accepts     []Accept
	Version     string   // that the next send uploads; "" when it is not known
	Sent        []Sent   // to the destination, the latest last
	Statistics  []string // names of those that havvel.toml declares
	Newest      Source   // of the project; zero when it is not known
	Paper       Paper    // the page; empty when it is not known
	Untried     string   // why there is no clean trial of the export, where the project wants one; else ""
}

// An Accept is a finding that the developer has decided to live with.
type Accept struct{ ID, File, Reason string }

// A Pass is one run of one check.
type Pass struct {
	Subject
	check    *Check
	findings *[]Finding
}

// Catalogue returns all checks, in the order of families and then of what to fix first.
func Catalogue() []*Check {
	return slices.Concat(entryChecks, nameChecks, linkChecks, encodingChecks, weightChecks, memoryChecks, wasmChecks, pageChecks, mediaChecks, hookChecks, statisticChecks, leftoverChecks, freshChecks, listingChecks, pictureChecks)
}

// Run runs the whole catalogue and returns the findings: errors first, then by check and place.
func Run(s Subject) []Finding { return run(s, Catalogue()) }

// RunPage runs the checks of the game's page alone, for which no build is needed.
func RunPage(s Subject) []Finding { return run(s, slices.Concat(listingChecks, pictureChecks)) }

func run(s Subject, checks []*Check) []Finding {
	var findings []Finding
	for _, c := range checks {
		c.Run(&Pass{s, c, &findings})
	}
	for i := range findings {
		for _, a := range s.Accepts {
			if a.covers(&findings[i]) {
				findings[i].Accepted = a.Reason
			}
		}
	}
	slices.SortStableFunc(findings, func(a, b Finding) int { return cmp.Compare(rank(a), rank(b)) })
	return findings
}

func (a Accept) covers(f *Finding) bool {
	if a.ID != f.ID {
		return false
	}
	matched, err := path.Match(a.File, f.File)
	return a.File == "" || a.File == f.File || err == nil && matched
}

func rank(f Finding) int {
	return slices.Index([]Level{Error, Warning, Note}, f.Level)
}

// Errors counts the findings that forbid an upload.
func Errors(findings []Finding) int {
	n := 0
	for _, f := range findings {
		if f.Level == Error && f.Accepted == "" {
			n++
		}
	}
	return n
}

// report adds a finding at the check's level.
func (p *Pass) report(f Finding) {
	f.ID, f.Destination = p.check.ID, p.Destination
	if f.Level == "" {
		f.Level = p.check.Level
	}
	if p.Rules != nil && f.MendedBy == "" {
		if level, ok := p.Rules.Levels[f.ID]; ok {
			f.Level = Level(level)
		}
	}
	*p.findings = append(*p.findings, f)
}

// mended adds a finding that pack mends by itself: a note where the build goes out by pack, and at the
// check's level where it goes out by hand, or pack must not take that step. what says what pack does, byHand what to do
// without it.
func (p *Pass) mended(f Finding, step, what, byHand string) {
	f.Fix = byHand + ", or let havvel pack do it"
	if slices.Contains(p.Without, step) {
		f.Fix = byHand
	} else if p.Packed {
		f.Level, f.MendedBy, f.Fix = Note, "pack", what
	}
	p.report(f)
}
