package app

import (
	"context"
	"errors"
	"path/filepath"

	"havvel/internal/export"
	"havvel/internal/fault"
	"havvel/internal/project"
	"havvel/internal/proof"
	"havvel/internal/rulebook"
)

// LiveRun is what came of running what players get; as JSON it is the document of havvel trial --live.
type LiveRun struct {
	Destination string `json:"destination"`
	Version     string `json:"version"`
	Link        string `json:"link"`
	Game        string `json:"game"` // the folder that the game is served from
	Proof       *Proof `json:"proof"`
}

// TryLive runs the link of what was sent last to a destination, public or draft, and compares it with what was handed over.
func (k *Desk) TryLive(ctx context.Context, d *project.Destination, b *export.Build, how Proving) (*LiveRun, error) {
	if err := k.adopt(ctx, d); err != nil {
		return nil, err
	}
	last, err := Last(k.Courier, d)
	if err != nil {
		return nil, err
	}
	status, err := k.Courier.Ask(ctx, d, last, 0)
	if err != nil {
		return nil, err
	}
	out := &LiveRun{Destination: d.Name, Version: status.Version, Link: status.Link()}
	switch {
	case out.Link == "":
		return nil, fault.New(fault.No, "%s has no link for version %s yet (state: %s)", d.Rules.Name, status.Version, status.State).
			Then("havvel where --wait says when there is one")
	case status.Fingerprint != b.Fingerprint:
		return nil, fault.New(fault.No, "version %s on %s was made of another export than this one", status.Version, d.Rules.Name).
			Then("send this one first, or name the export that was sent")
	}
	p, err := k.prover(how)
	if err != nil {
		return nil, err
	}
	if p.path == "" {
		return nil, p.err
	}
	plan, done, err := PlanFor(ctx, k.Project, d, b, status.Version, Choices{}, k.Report)
	if err != nil {
		return nil, err
	}
	defer done()
	k.Report.Begin("trying what players get from "+d.Rules.Name, 0)
	defer k.Report.End()
	game, stamp, err := proof.GameOf(ctx, p.path, out.Link, viewOf(d))
	var none *proof.NoGame
	switch {
	case errors.As(err, &none):
		return nil, fault.New(fault.No, "what players get can't be told: %w", err).Then("open the link yourself: %s", out.Link)
	case err != nil:
		return nil, err
	case stamp.Fingerprint != b.Fingerprint:
		return nil, fault.New(fault.No, "%s shows version %s, and version %s was sent", out.Link, stamp.Version, status.Version).
			Then("a cache on the way may be old, or somebody else sent another; havvel where --all lists the versions")
	}
	out.Game = game
	seen, err := p.store.Live(ctx, p.caseOf(d, b, proof.Of(plan)), out.Link, game)
	if err != nil {
		return nil, err
	}
	out.Proof = told(seen)
	if seen.Answer != proof.Proven {
		out.Proof.Report = filepath.Join(proofFolder(k.Project), d.Name+"-live.html")
		if err := seen.Report(out.Proof.Report, TitleOf(b), d.Rules.Name); err != nil {
			return nil, err
		}
	}
	return out, nil
}

// viewOf is the view in which a destination's game is proven.
func viewOf(d *project.Destination) rulebook.View { return proof.View(d.Rules) }
