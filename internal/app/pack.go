package app

import (
	"context"
	"os"
	"path/filepath"
	"slices"

	"havvel/internal/check"
	"havvel/internal/export"
	"havvel/internal/fault"
	"havvel/internal/finding"
	"havvel/internal/hooks"
	"havvel/internal/inwords"
	"havvel/internal/pack"
	"havvel/internal/progress"
	"havvel/internal/project"
	"havvel/internal/trial"
)

// Choices are what is asked of a plan beyond what the project says.
type Choices struct {
	Slim, Smallest bool     // also without the project's word for it
	AcceptErrors   bool     // an archive with errors is written all the same
	Without        []string // steps that are not made
	Unsummed       bool     // nobody asks for the SHA-256 of a zip
}

// Version is the version on the command line, or the project's.
func Version(p *project.Project, ver string) (string, error) {
	if ver == "" {
		return p.Game.Version, nil
	}
	if err := project.VerifyVersion(ver); err != nil {
		return "", fault.New(fault.Usage, "--version: %w", err)
	}
	return ver, nil
}

// ArchivePath is where a destination's archive goes, without its ending.
func ArchivePath(p *project.Project, d *project.Destination, folder, ver string) string {
	if folder == "" {
		folder = filepath.Join(p.Folder, "packed")
	}
	return inwords.Near(filepath.Join(folder, d.Name+"-"+ver))
}

// packFor says what project and command line want of a plan.
func packFor(p *project.Project, d *project.Destination, b *export.Build, version string, c Choices) (pack.For, error) {
	to := pack.For{
		Destination: d.Name, Rules: d.Rules, Plants: d.Plants(), Accepts: accepts(p),
		Title: p.Game.Title, Short: p.Game.Short, Version: version, Encode: d.Encode,
		Slim: c.Slim || p.Pack.Slim, Smallest: c.Smallest || p.Pack.Smallest, LeaveOut: p.Pack.LeaveOut, LeaveUnused: p.Pack.LeaveUnused,
		Unsummed: c.Unsummed, Without: slices.Concat(p.Pack.Without, c.Without), AcceptErrors: c.AcceptErrors,
	}
	to.Inferred, to.Heard = InferredOf(p), heardOf(p, d, b)
	for _, name := range to.Without {
		if !slices.Contains(StepNames(), name) {
			return to, fault.New(fault.Usage, "there is no step %q to leave out; %s", name, inwords.There(StepNames()))
		}
	}
	var err error
	to.Front, err = frontOf(p)
	return to, err
}

// heardOf are the calls that the last trial of this export heard.
func heardOf(p *project.Project, d *project.Destination, b *export.Build) []string {
	if last := trial.Last(p.Folder, d.Name); last != nil && last.Fingerprint == b.Fingerprint {
		return last.Calls()
	}
	return nil
}

// InferredOf is what a project has found out while its game runs.
func InferredOf(p *project.Project) hooks.Inferred {
	i := hooks.Inferred{Events: p.Hooks.Infer}
	for _, s := range p.Statistics {
		if s.Global != "" || s.Storage != "" {
			i.Values = append(i.Values, hooks.Value{Name: s.Name, Global: s.Global, Storage: s.Storage})
		}
	}
	return i
}

func StepNames() []string {
	var names []string
	for _, k := range pack.Kinds() {
		names = append(names, k.Name)
	}
	return names
}

// frontOf reads what the project says of the page's looks.
func frontOf(p *project.Project) (*pack.Front, error) {
	if p.Front == nil {
		return nil, nil
	}
	f := &pack.Front{Title: p.Front.Title, Background: p.Front.Background, Bar: p.Front.Bar, Canvas: p.Front.Canvas}
	if f.Title == "" {
		f.Title = p.Game.Title
	}
	err := f.Verify()
	for name, to := range map[string]**pack.Art{p.Front.Icon: &f.Icon, p.Front.Picture: &f.Picture} {
		if name == "" || err != nil {
			continue
		}
		var data []byte
		if data, err = os.ReadFile(filepath.Join(p.Folder, filepath.FromSlash(name))); err == nil {
			*to, err = pack.ArtOf(name, data)
		}
	}
	if err != nil {
		return nil, p.Problem("front", "%w", err)
	}
	return f, nil
}

// PlanFor is the plan of what a destination is handed; done lets go of the cache that it was made with.
func PlanFor(
	ctx context.Context,
	p *project.Project,
	d *project.Destination,
	b *export.Build,
	version string,
	c Choices,
	report progress.Reporter,
) (plan *pack.Plan, done func() error, err error) {
	to, err := packFor(p, d, b, version, c)
	if err != nil {
		return nil, nil, err
	}
	to.Report = report
	cache, err := pack.Open(p.CacheFolder())
	if err != nil {
		return nil, nil, err
	}
	if plan, err = cache.Plan(ctx, b, to); err != nil {
		cache.Close()
		return nil, nil, err
	}
	return plan, cache.Close, nil
}

// AsPacked is a build as it would be handed to a destination, which nothing was written for.
func AsPacked(
	ctx context.Context,
	p *project.Project,
	d *project.Destination,
	b *export.Build,
	report progress.Reporter,
) (*export.Build, error) {
	plan, done, err := PlanFor(ctx, p, d, b, p.Game.Version, Choices{}, report)
	if err != nil {
		return nil, err
	}
	defer done()
	return plan.Result(), nil
}

// Wanted is packFor; the error is a *pack.Faulty where the destination would not take the build.
func Wanted(p *project.Project, d *project.Destination, b *export.Build, version string, c Choices) (pack.For, error) {
	to, err := packFor(p, d, b, version, c)
	if err == nil {
		if findings := forbidden(p, d, b, c); len(findings) > 0 {
			err = &Barred{d, &pack.Faulty{Findings: findings}}
		}
	}
	return to, err
}

// forbidden are the errors for which a destination would not take a build; none where they are accepted.
func forbidden(p *project.Project, d *project.Destination, b *export.Build, c Choices) (errs []finding.Finding) {
	if c.AcceptErrors {
		return nil
	}
	s := Subject(p, d, b)
	s.Without = append(s.Without, c.Without...)
	for _, f := range check.Run(s) {
		if f.Level == finding.Error && f.Accepted == "" {
			errs = append(errs, f)
		}
	}
	return errs
}
