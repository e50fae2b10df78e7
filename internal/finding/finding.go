// Package finding is what a check, a trial, a proof or the page has to say: how bad it is, where, and what to do. One policy decides
// for all of them what a destination makes of a finding, and what the developer lives with.
package finding

import (
	"cmp"
	"net/url"
	"path"
	"slices"
	"strings"

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

// A Finding is what there is to say about one place.
type Finding struct {
	ID          string `json:"id"`
	Level       Level  `json:"level"`
	File        string `json:"file"`        // inside the export; "" when it is about the whole
	Line        int    `json:"line"`        // from 1; 0 when there is none
	Column      int    `json:"column"`      // likewise
	Message     string `json:"message"`     // what is wrong, and what that does
	Fix         string `json:"fix"`         // what to do
	Destination string `json:"destination"` // "" when it holds anywhere
	FixedBy     string `json:"fixed_by"`    // "pack" when packing fixes it, else ""
	Accepted    string `json:"accepted"`    // the developer's reason to live with it, or ""
}

// An Accept is a finding that the developer has decided to live with. File may be a pattern, as path.Match reads it; "" is any file.
type Accept struct{ ID, File, Reason string }

// A Policy is what a destination and a project make of findings.
type Policy struct {
	Rules   *rulebook.Rulebook // nil without a portal
	Accepts []Accept
}

// Level is that of a finding for the destination, where it has a say in it.
func (p Policy) Level(id string, usual Level) Level {
	if p.Rules != nil {
		if level, ok := p.Rules.Levels[id]; ok {
			return Level(level)
		}
	}
	return usual
}

// Settle notes which findings are accepted, and brings them into their order: errors first.
func (p Policy) Settle(list []Finding) {
	for i := range list {
		for _, a := range p.Accepts {
			if a.covers(&list[i]) {
				list[i].Accepted = a.Reason
			}
		}
	}
	slices.SortStableFunc(list, func(a, b Finding) int { return cmp.Compare(rank(a), rank(b)) })
}

// Allows reports whether the destination lets the game load from an address's host. A rulebook names a host with its port, or
// without for any.
func (p Policy) Allows(address string) bool {
	u, err := url.Parse(address)
	return err == nil && p.Rules != nil && slices.ContainsFunc(p.Rules.Allow, func(host string) bool {
		return strings.EqualFold(host, u.Host) || strings.EqualFold(host, u.Hostname())
	})
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
