package proof

import (
	"context"

	"havvel/internal/finding"
	"havvel/internal/trial"
)

var ofSent = sides{"what was sent", "what players get"}

// Live runs what a real host shows of a build, at a page of it and with the game in a folder of it, and compares that with what was handed
// over. Requests and errors of the page around the game are the host's own.
func (s *Store) Live(ctx context.Context, c Case, page, game string) (*Proof, error) {
	handed := c.handed(c.Handed)
	var before *Run
	if p := s.proof(s.key(ctx, &c, c.untouched(), handed)); p != nil {
		before = p.Handed
	}
	public := side{&trial.Trial{
		Build: c.Handed.Build, Steps: c.Steps, Destination: c.Destination, Page: page, Game: game, Start: startLimit, Watch: watchLimit,
	}, handed.view}
	p, err := agreed(func() (*Proof, error) {
		if before == nil {
			var err error
			if before, err = s.run(ctx, handed, c.Program); err != nil {
				return nil, err
			}
		}
		after, err := s.run(ctx, public, c.Program)
		if err != nil {
			return nil, err
		}
		here := *before
		before = nil     // what seems worse is compared with another run: two of the same game can look different, too
		here.Heard = nil // the real scripts of a portal don't tell what they are called with
		return compare(&here, after, nil, ofSent), nil
	})
	if err != nil {
		return nil, err
	}
	p.View, p.Browser = handed.view.Name, p.Handed.Browser
	for i := range p.Findings {
		f := &p.Findings[i]
		f.Level, f.Destination = finding.Error, c.Destination
		f.Fix = "what was sent runs here, so it is the host: havvel where --live compares what it serves, file by file"
	}
	finding.Policy{Rules: c.Rules, Accepts: c.Accepts}.Settle(p.Findings)
	return p, nil
}
