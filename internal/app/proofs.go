package app

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"

	"havvel/internal/browser"
	"havvel/internal/export"
	"havvel/internal/fault"
	"havvel/internal/finding"
	"havvel/internal/pack"
	"havvel/internal/project"
	"havvel/internal/proof"
	"havvel/internal/rulebook"
	"havvel/internal/trial"
)

// Proving says whether what is handed over is run beside the export.
type Proving struct {
	Wanted  bool   // run it; without, only what is known already is told
	Browser string // its name or program; "" for what the project says
	Release string // of Havvel
}

// NoProofs is the environment variable that keeps send from proving, where no browser may be started.
const NoProofs = "HAVVEL_PROOF"

// ProvesByDefault reports whether send proves without being asked.
func ProvesByDefault() bool { return os.Getenv(NoProofs) != "off" }

// A Proof is what is known of an archive, as programs read it.
type Proof struct {
	Answer   proof.Answer      `json:"answer"`
	Why      string            `json:"why"`
	Browser  string            `json:"browser"`
	View     string            `json:"view"`
	Without  []string          `json:"without"`
	Findings []finding.Finding `json:"findings"`
	Report   string            `json:"report"` // a page that shows both sides; "" where there is none

	Inferred []proof.Inferred `json:"inferred"` // events that pack's adapter found out and sent
	Unsent   []string         `json:"-"`        // those that it was to find out, and didn't send in this run

	AtRoot bool   `json:"at_root"` // for a site: it was run with its page at the site's root
	Lower  string `json:"-"`       // for a site: why it runs with its page beside its files only
}

// Less is the error for what runs worse than the export.
type Less struct {
	At    *project.Destination
	Proof *Proof
}

func (e *Less) Error() string {
	first := e.Proof.Findings[0]
	return fmt.Sprintf("what %s would get runs worse than your export: %s", e.At.Rules.Name, first.Message)
}

// Fault tells it.
func (e *Less) Fault() *fault.Error {
	f := fault.Tell(e, fault.No, "havvel pack --prove shows all that is worse; --no-proof sends it all the same")
	if first := e.Proof.Findings[0]; first.File != "" {
		f.At = fault.Position{File: first.File, Line: first.Line, Column: first.Column}
	}
	return f
}

// a prover proves what destinations of one project get from one export.
type prover struct {
	desk  *Desk
	store *proof.Store
	how   Proving
	steps []trial.Step
	path  string // of the browser; "" for none
	err   error  // why there is none
}

func (k *Desk) prover(how Proving) (*prover, error) {
	p := &prover{desk: k, how: how, store: proof.In(proofFolder(k.Project))}
	t := &trial.Trial{}
	if err := stepsOf(k.Project, t); err != nil {
		return nil, err
	}
	p.steps = t.Steps
	var named []string
	if how.Browser != "" {
		named = []string{how.Browser}
	}
	list, err := k.Browsers(Trying{Browsers: named})
	var none *browser.NoBrowser
	switch {
	case errors.As(err, &none) && none.Named == "":
		p.err = err
	case err != nil:
		return nil, err
	default:
		p.path = list[0]
	}
	return p, nil
}

func proofFolder(p *project.Project) string { return filepath.Join(p.Folder, ".havvel", "proofs") }

// A replanner plans again without some more steps of packing.
type replanner func(ctx context.Context, without []string) (proof.Handed, error)

// of is what there is to say about a plan: what was proven before, or now; nil for nothing. That it is worse is no error of this.
func (p *prover) of(ctx context.Context, d *project.Destination, b *export.Build, plan *pack.Plan, replan replanner) (*Proof, error) {
	project := p.desk.Project
	if p.path == "" {
		return p.unproven("there is neither Chromium nor Firefox on this machine, in which it could run", p.err)
	}
	all := p.caseOf(d, b, proof.Of(plan))
	all.Replan = replan
	var err error
	if all.Front, err = Front(ctx, d, plan); err != nil {
		return nil, err
	}
	seen := p.store.Known(ctx, all)
	if seen == nil && !p.how.Wanted {
		return nil, nil
	}
	if seen == nil {
		seen, err = p.store.Prove(ctx, all)
		var broken *browser.Broken
		switch {
		case errors.As(err, &broken) && ctx.Err() == nil:
			return p.unproven(err.Error(), err)
		case err != nil:
			return nil, err
		}
	}
	out := told(seen)
	out.unsent(d, project.Hooks.Infer)
	if seen.Answer != proof.Proven {
		out.Report = filepath.Join(proofFolder(project), d.Name+".html")
		if err := seen.Report(out.Report, TitleOf(b), d.Rules.Name); err != nil {
			return nil, err
		}
	}
	return out, p.required(d, out)
}

// caseOf is what is to be proven of a destination.
func (p *prover) caseOf(d *project.Destination, b *export.Build, handed proof.Handed) proof.Case {
	return proof.Case{
		Export: b, Handed: handed, Destination: d.Name, Rules: d.Rules, Hooks: hooksOf(p.desk.Project), Steps: p.steps,
		Accepts: accepts(p.desk.Project), Program: p.path, Release: p.how.Release,
	}
}

// told is a proof as programs read it.
func told(seen *proof.Proof) *Proof {
	return &Proof{
		Answer: seen.Answer, Why: seen.Why, Browser: seen.Browser, View: seen.View, Without: append([]string{}, seen.Without...),
		Findings: append([]finding.Finding{}, seen.Findings...), AtRoot: seen.AtRoot, Lower: seen.Lower,
		Inferred: append([]proof.Inferred{}, seen.Handed.Inferred...),
	}
}

// unsent notes which of the events that pack's adapter was to find out were not sent. Nothing is proven where a destination requires to
// hear that loading is done, and didn't: the others wait for a player.
func (p *Proof) unsent(d *project.Destination, wanted []string) {
	for _, event := range wanted {
		if !slices.ContainsFunc(p.Inferred, func(i proof.Inferred) bool { return i.Event == event }) {
			p.Unsent = append(p.Unsent, event)
		}
	}
	if p.Answer != proof.Proven || d.Rules == nil || !slices.Contains(p.Unsent, loadingDone) {
		return
	}
	for _, h := range d.Rules.Hooks {
		for _, c := range h.At(loadingDone) {
			if c.Required {
				p.Answer = proof.Untold
				p.Why = fmt.Sprintf("%s requires %s, and pack's adapter didn't find out that loading was done; havvel trial shows what the game did",
					d.Rules.Name, c.Call)
			}
		}
	}
}

// loadingDone is the event that needs no player.
const loadingDone = "loading-done"

// beside begins to prove a plan, beside what writes it; the plan's archive waits for that. The answer is there once it is written; it
// stays empty where nothing is known. The archive is not written where it is worse, unless errors are accepted. Call stop in the end.
func (p *prover) beside(
	ctx context.Context, d *project.Destination, b *export.Build, plan *pack.Plan, c Choices, replan replanner,
) (out *Proof, stop func()) {
	out = &Proof{}
	if p.desk.DryRun {
		return out, func() {}
	}
	ctx, cancel := context.WithCancel(ctx)
	over := make(chan struct{})
	var seen *Proof
	var err error
	go func() {
		defer close(over)
		seen, err = p.of(ctx, d, b, plan, replan)
	}()
	plan.Await(func() error {
		<-over
		if err != nil || seen == nil {
			return err
		}
		*out = *seen
		if out.Answer == proof.Worse && p.how.Wanted && !c.AcceptErrors {
			return &Less{d, out}
		}
		return nil
	})
	return out, func() {
		cancel()
		<-over
	}
}

// replanWith plans again for the same destination.
func replanWith(cache *pack.Cache, b *export.Build, to pack.For) replanner {
	return func(ctx context.Context, without []string) (proof.Handed, error) {
		to := to
		to.Without, to.Report = slices.Concat(to.Without, without), nil
		plan, err := cache.Plan(ctx, b, to)
		if err != nil {
			return proof.Handed{}, err
		}
		return proof.Of(plan), nil
	}
}

// unproven is an answer without a run.
func (p *prover) unproven(why string, err error) (*Proof, error) {
	if !p.how.Wanted {
		return nil, nil
	}
	if p.desk.Project.Proof.Required {
		return nil, err
	}
	return &Proof{Answer: proof.Untold, Why: why, Without: []string{}, Findings: []finding.Finding{}}, nil
}

// required is the error where the project wants a proof, and there is none.
func (p *prover) required(d *project.Destination, out *Proof) error {
	if out.Answer != proof.Untold || !p.desk.Project.Proof.Required || !p.how.Wanted {
		return nil
	}
	return fault.New(fault.No, "what %s would get is not proven, which %s requires: %s", d.Rules.Name, project.Name, out.Why)
}

// hooksOf are the scripts of all portals that a project goes to.
func hooksOf(p *project.Project) (list []rulebook.Hook) {
	seen := map[string]bool{}
	destinations, err := p.Destinations(nil)
	if err != nil {
		return nil // what is wrong with them is said elsewhere
	}
	for _, d := range destinations {
		for _, h := range d.Rules.Hooks {
			if !seen[h.Script] {
				seen[h.Script] = true
				list = append(list, h)
			}
		}
	}
	return list
}
