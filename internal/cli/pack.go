package cli

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"github.com/spf13/cobra"
	"golang.org/x/sync/errgroup"

	"havvel/internal/app"
	"havvel/internal/check"
	"havvel/internal/cli/term"
	"havvel/internal/export"
	"havvel/internal/fault"
	"havvel/internal/finding"
	"havvel/internal/inwords"
	"havvel/internal/pack"
	"havvel/internal/progress"
	"havvel/internal/project"
	"havvel/internal/settings"
)

// packFlags are what pack takes besides what all commands take.
type packFlags struct {
	folder, version string
	choices         app.Choices
}

func (a *console) pack() *cobra.Command {
	var f packFlags
	c := a.new(command{
		use:   "pack [EXPORT]",
		short: "Write the archives that the destinations want",
		long: "Pack works out what has to differ from the export for each destination, says so, and writes the archive.\n" +
			"It never changes the export; the same export gives the same bytes. The archive is read back and checked before it gets\n" +
			"its name. --plan only says what would change.",
		example: "  havvel pack --plan\n  havvel pack --to brackwater --slim --out archives",
		args:    cobra.MaximumNArgs(1),
		run: func(ctx context.Context, args []string) error {
			f.choices.Unsummed = !a.json
			return a.runPack(ctx, args, f)
		},
	})
	c.Flags().StringVarP(&f.folder, "out", "o", "", "`folder` for the archives (packed, beside havvel.toml)")
	c.Flags().StringVar(&f.version, "version", "", "`version` in the archive's name (the one in havvel.toml)")
	c.Flags().BoolVar(&a.dryRun, "plan", false, "say what would change, and why, and write nothing")
	a.withChoices(c, &f.choices)
	a.withTo(c)
	a.withDryRun(c, "the same as --plan")
	return c
}

func (a *console) withChoices(c *cobra.Command, to *app.Choices) {
	c.Flags().BoolVar(&to.Slim, "slim", false, "make pictures, sounds and texts smaller without loss")
	c.Flags().BoolVar(&to.Smallest, "smallest", false, "make archives as small as can be; takes a few times as long, once")
	c.Flags().StringArrayVar(&to.Without, "without", nil, "leave out this `step` of the plan; may be repeated")
	c.Flags().BoolVar(&to.AcceptErrors, "accept-errors", false, "go on with an archive in which the check finds errors")
	c.RegisterFlagCompletionFunc("without", func(*cobra.Command, []string, string) ([]string, cobra.ShellCompDirective) {
		return app.StepNames(), cobra.ShellCompDirectiveNoFileComp
	})
}

type packJSON struct {
	Archives []archiveRow `json:"archives"`
}

type archiveRow struct {
	Destination string            `json:"destination"`
	Path        string            `json:"path"`
	HandOver    string            `json:"hand_over"`
	Bytes       int64             `json:"bytes"`
	SHA256      string            `json:"sha256"`
	Entries     int               `json:"entries"`
	Parts       []pack.Part       `json:"parts"`
	Steps       []pack.Step       `json:"steps"`
	Findings    []finding.Finding `json:"findings"`
}

func (a *console) runPack(ctx context.Context, args []string, f packFlags) error {
	p, destinations, err := a.destinations()
	if err != nil {
		return err
	}
	if f.version, err = app.Version(p, f.version); err != nil {
		return err
	}
	_, b, err := app.Open(ctx, args, a.entry, app.Exact)
	if err != nil {
		return err
	}
	defer b.Close()
	cache, err := pack.Open(app.CacheFolder(p))
	if err != nil {
		return err
	}
	defer cache.Close()
	defer a.unkept(cache)
	rows := make([]archiveRow, len(destinations))
	wants := make([]pack.For, len(destinations))
	for i, d := range destinations {
		if wants[i], err = app.Wanted(p, d, b, f.version, f.choices); err != nil {
			return a.refusal(p, d, b, err)
		}
	}
	write := func(ctx context.Context, i int, report progress.Reporter) error {
		plan, err := cache.Plan(ctx, b, wants[i])
		if err == nil {
			rows[i], err = packed(ctx, plan, app.ArchivePath(p, destinations[i], f.folder, f.version), a.dryRun, report)
		}
		rows[i].Destination = destinations[i].Name
		return err
	}
	wants[0].Report = a.screen.Progress()
	// The first compresses what all have; then the others can be written beside each other.
	if err := write(ctx, 0, a.screen.Progress()); err != nil {
		return err
	}
	work, ctx := errgroup.WithContext(ctx)
	for i := range destinations[1:] {
		work.Go(func() error { return write(ctx, i+1, progress.None) })
	}
	if err := work.Wait(); err != nil {
		return err
	}
	for i, d := range destinations {
		a.showPacked(d, b, rows[i])
	}
	doc := packJSON{rows}
	a.answer(doc)
	if a.dryRun {
		a.screen.Next("havvel pack%s%s  (writes it)", a.toFlags(), argument(args))
	} else {
		a.screen.Next("havvel send%s%s", a.toFlags(), argument(args))
	}
	return nil
}

// packed writes what a plan says, unless it is a dry run.
func packed(ctx context.Context, plan *pack.Plan, stem string, dryRun bool, report progress.Reporter) (archiveRow, error) {
	r := archiveRow{Path: plan.Path(stem), HandOver: plan.HandOver(), Entries: len(plan.Items), Parts: []pack.Part{}, Steps: plan.Steps}
	if dryRun {
		r.Findings = plan.Judge()
		return r, nil
	}
	archive, err := plan.Write(ctx, stem, report)
	if err != nil {
		return r, err
	}
	r.Bytes, r.SHA256, r.Findings = archive.Bytes, archive.SHA256, archive.Findings
	r.Parts = append(r.Parts, archive.Parts...)
	return r, nil
}

// refusal prints the findings for which a destination would not take a build, where that is the error, instead of naming the first.
func (a *console) refusal(p *project.Project, d *project.Destination, b *export.Build, err error) error {
	var faulty *pack.Faulty
	if !errors.As(err, &faulty) {
		return err
	}
	a.answer(checkJSON{faulty.Findings})
	if a.json {
		return err
	}
	a.showFindings(b, []check.Subject{app.Subject(p, d, b)}, faulty.Findings, len(check.Catalogue()))
	a.screen.Next("fix the errors, export again, and run havvel check")
	return fault.Said
}

// unkept warns that what was worked out could not be kept.
func (a *console) unkept(cache *pack.Cache) {
	if err := cache.Unkept(); err != nil {
		a.screen.Warn("can't keep what was compressed, so the next pack takes as long: %v", err)
	}
}

func (a *console) showPacked(d *project.Destination, b *export.Build, r archiveRow) {
	s := a.screen
	about := fmt.Sprintf("for %s, %s", d.Rules.Name, inwords.Files(r.Entries))
	if a.dryRun {
		about += ", not written"
	} else {
		about += ", " + settings.Size(r.Bytes).String()
		if d.Rules.Archive.Limit > 0 {
			about += fmt.Sprintf(" of %s allowed", d.Rules.Archive.Limit)
		}
	}
	s.Line("%s  %s", s.In(term.Strong, r.Path), s.In(term.Quiet, about))
	for _, part := range r.Parts {
		s.Line("  %s  %s", part.Path, s.In(term.Quiet, settings.Size(part.Bytes).String()))
	}
	a.showSteps(r.Steps)
	if len(r.Steps) == 0 {
		s.Line("  the files of %s, unchanged", b.Path)
	}
	n := finding.Errors(r.Findings)
	verdict := a.noErrors(b)
	if n > 0 {
		verdict = s.In(term.Bad, inwords.Of(n, "1 error", fmt.Sprintf("%d errors", n)))
	}
	if a.dryRun {
		s.Line("  checked as planned: %s", verdict)
	} else {
		s.Line("  read back and checked: whole, %s", verdict)
	}
	s.Line("")
}

// showSteps prints what changes, kind by kind; with --plan also why.
func (a *console) showSteps(steps []pack.Step) {
	s := a.screen
	last := ""
	for _, step := range steps {
		lead := fmt.Sprintf("  %-11s", step.Name)
		if step.Name == last {
			lead = strings.Repeat(" ", 13)
		}
		last = step.Name
		words := term.Clean(step.What)
		if step.Bytes != 0 {
			words += " (" + change(step.Bytes) + ")"
		}
		s.Paragraph(term.Plain, lead, strings.Repeat(" ", 13), words)
		if a.dryRun && step.Why != "" {
			s.Paragraph(term.Quiet, strings.Repeat(" ", 15), strings.Repeat(" ", 15), term.Clean(step.Why))
		}
	}
}

// change is a number of bytes gained or lost, in words.
func change(n int64) string {
	if n == 0 {
		return "same size"
	}
	if n < 0 {
		return "−" + settings.Size(-n).String()
	}
	return "+" + settings.Size(n).String()
}
