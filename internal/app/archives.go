package app

import (
	"context"

	"golang.org/x/sync/errgroup"

	"havvel/internal/export"
	"havvel/internal/finding"
	"havvel/internal/pack"
	"havvel/internal/progress"
	"havvel/internal/project"
)

// Archives are what was packed; as JSON they are the document of havvel pack.
type Archives struct {
	List []Archive `json:"archives"`

	Unkept error `json:"-"` // why what was compressed is not kept
}

// An Archive is what one destination gets.
type Archive struct {
	Destination string            `json:"destination"`
	Path        string            `json:"path"`
	HandOver    string            `json:"hand_over"`
	Bytes       int64             `json:"bytes"`
	SHA256      string            `json:"sha256"`
	Entries     int               `json:"entries"`
	Parts       []pack.Part       `json:"parts"`
	Steps       []pack.Step       `json:"steps"`
	Findings    []finding.Finding `json:"findings"`
	Proof       *Proof            `json:"proof"` // null where it was never run
}

// A Packing is how archives are to be made.
type Packing struct {
	Choices
	Proving
	Version string
	Folder  string // for the archives; "" for packed, beside havvel.toml
}

// Pack writes the archives of a build for all destinations. The error is a *Barred where the build has errors for one of them; then
// nothing is written.
func (k *Desk) Pack(ctx context.Context, b *export.Build, how Packing) (*Archives, error) {
	cache, err := pack.Open(k.Project.CacheFolder())
	if err != nil {
		return nil, err
	}
	defer cache.Close()
	out := &Archives{List: make([]Archive, len(k.Destinations))}
	wants := make([]pack.For, len(k.Destinations))
	for i, d := range k.Destinations {
		if wants[i], err = Wanted(k.Project, d, b, how.Version, how.Choices); err != nil {
			return nil, err
		}
	}
	prover, err := k.prover(how.Proving)
	if err != nil {
		return nil, err
	}
	write := func(ctx context.Context, i int, report progress.Reporter) error {
		d := k.Destinations[i]
		plan, err := cache.Plan(ctx, b, wants[i])
		if err != nil {
			return err
		}
		seen, stop := prover.beside(ctx, d, b, plan, how.Choices, replanWith(cache, b, wants[i]))
		defer stop()
		err = k.packed(ctx, plan, ArchivePath(k.Project, d, how.Folder, how.Version), report, &out.List[i])
		out.List[i].Destination = d.Name
		if seen.Answer != "" {
			out.List[i].Proof = seen
		}
		return err
	}
	wants[0].Report = k.Report
	// The first compresses what all have; then the others can be written beside each other.
	err = write(ctx, 0, k.Report)
	if err == nil {
		work, ctx := errgroup.WithContext(ctx)
		for i := range k.Destinations[1:] {
			work.Go(func() error { return write(ctx, i+1, progress.None) })
		}
		err = work.Wait()
	}
	out.Unkept = cache.Unkept()
	return out, err
}

// packed writes what a plan says, unless it is a dry run.
func (k *Desk) packed(ctx context.Context, plan *pack.Plan, stem string, report progress.Reporter, r *Archive) error {
	*r = Archive{Path: plan.Path(stem), HandOver: plan.HandOver(), Entries: len(plan.Items), Parts: []pack.Part{}, Steps: plan.Steps}
	if k.DryRun {
		r.Findings = plan.Judge()
		return nil
	}
	archive, err := plan.Write(ctx, stem, report)
	if err != nil {
		return err
	}
	r.Bytes, r.SHA256, r.Findings = archive.Bytes, archive.SHA256, archive.Findings
	r.Parts = append(r.Parts, archive.Parts...)
	return nil
}

// A Barred is the error for a build that check finds errors in.
type Barred struct {
	At *project.Destination
	*pack.Faulty
}

// Unwrap returns what was found.
func (e *Barred) Unwrap() error { return e.Faulty }
