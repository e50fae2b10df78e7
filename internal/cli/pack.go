package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/spf13/cobra"
	"golang.org/x/sync/errgroup"

	"havvel/internal/check"
	"havvel/internal/cli/term"
	"havvel/internal/export"
	"havvel/internal/finding"
	"havvel/internal/pack"
	"havvel/internal/progress"
	"havvel/internal/project"
	"havvel/internal/settings"
)

// packFlags are what pack takes besides what all commands take.
type packFlags struct {
	folder, version string
	choices         packChoices
}

// packChoices are what the command line says of the plan, for pack and send.
type packChoices struct {
	slim, smallest, acceptErrors bool
	without                      []string
}

func (a *app) pack() *cobra.Command {
	var f packFlags
	c := a.new(command{
		use:   "pack [EXPORT]",
		short: "Write the archives that the destinations want",
		long: "Pack makes a plan of what each destination must be handed otherwise than it was exported, says it, and writes the archive.\n" +
			"It never changes the export; the same export gives the same bytes. The archive is read back and checked before it gets\n" +
			"its name. --plan only says what would change.",
		example: "  havvel pack --plan\n  havvel pack --to brackwater --slim --out archives",
		args:    cobra.MaximumNArgs(1),
		run: func(ctx context.Context, args []string) error {
			return a.runPack(ctx, args, f)
		},
	})
	c.Flags().StringVarP(&f.folder, "out", "o", "", "`folder` for the archives (packed, beside havvel.toml)")
	c.Flags().StringVar(&f.version, "version", "", "`version` in the archive's name (the one in havvel.toml)")
	c.Flags().BoolVar(&a.dryRun, "plan", false, "say what would change, and why, and write nothing")
	a.withChoices(c, &f.choices)
	a.withTo(c)
	a.withJSON(c)
	a.withDryRun(c, "the same as --plan")
	return c
}

func (a *app) withChoices(c *cobra.Command, to *packChoices) {
	c.Flags().BoolVar(&to.slim, "slim", false, "make pictures, sounds and texts smaller without loss")
	c.Flags().BoolVar(&to.smallest, "smallest", false, "make archives as small as can be; takes a few times as long, once")
	c.Flags().StringArrayVar(&to.without, "without", nil, "leave out this `step` of the plan; may be repeated")
	c.Flags().BoolVar(&to.acceptErrors, "accept-errors", false, "go on with an archive in which the check finds errors")
	c.RegisterFlagCompletionFunc("without", func(*cobra.Command, []string, string) ([]string, cobra.ShellCompDirective) {
		return stepNames(), cobra.ShellCompDirectiveNoFileComp
	})
}

func stepNames() []string {
	var names []string
	for _, k := range pack.Kinds() {
		names = append(names, k.Name)
	}
	return names
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

func (a *app) runPack(ctx context.Context, args []string, f packFlags) error {
	p, destinations, err := a.destinations()
	if err != nil {
		return err
	}
	if f.version, err = chosenVersion(p, f.version); err != nil {
		return err
	}
	_, b, err := a.subject(ctx, args, exact)
	if err != nil {
		return err
	}
	defer b.Close()
	cache, err := pack.Open(cacheFolder(p))
	if err != nil {
		return err
	}
	defer cache.Close()
	defer a.unkept(cache)
	rows := make([]archiveRow, len(destinations))
	wants := make([]pack.For, len(destinations))
	for i, d := range destinations {
		if wants[i], err = a.wanted(p, d, b, f.version, f.choices); err != nil {
			return err
		}
	}
	write := func(ctx context.Context, i int, report progress.Reporter) error {
		plan, err := cache.Plan(ctx, b, wants[i])
		if err == nil {
			rows[i], err = packed(ctx, plan, archivePath(p, destinations[i], f.folder, f.version), a.dryRun, report)
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
	if !a.json {
		for i, d := range destinations {
			a.showPacked(d, b, rows[i])
		}
	}
	doc := packJSON{rows}
	if a.json {
		return a.screen.JSON(doc)
	}
	if a.dryRun {
		a.screen.Next("havvel pack%s  (writes what is said above)", argument(args))
	} else {
		a.screen.Next("havvel send%s", argument(args))
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

// wanted checks a build for a destination, and says what is wanted of the plan.
func (a *app) wanted(p *project.Project, d *project.Destination, b *export.Build, version string, c packChoices) (pack.For, error) {
	to, err := packFor(p, d, version, c)
	if err != nil || c.acceptErrors {
		return to, err
	}
	return to, a.forbidden(p, d, b, c)
}

// chosenVersion is the version on the command line, or the project's.
func chosenVersion(p *project.Project, ver string) (string, error) {
	if ver == "" {
		return p.Game.Version, nil
	}
	if err := project.VerifyVersion(ver); err != nil {
		return "", &usage{"--version: " + err.Error(), "havvel send"}
	}
	return ver, nil
}

// archivePath is where a destination's archive goes, without its ending.
func archivePath(p *project.Project, d *project.Destination, folder, ver string) string {
	if folder == "" {
		folder = filepath.Join(p.Folder, "packed")
	}
	return term.Near(filepath.Join(folder, d.Name+"-"+ver))
}

// packFor says what project and command line want of a plan.
func packFor(p *project.Project, d *project.Destination, version string, c packChoices) (pack.For, error) {
	to := pack.For{
		Destination: d.Name, Rules: d.Rules, Plants: d.Plants(), Accepts: accepts(p),
		Title: p.Game.Title, Short: p.Game.Short, Version: version, Encode: d.Encode,
		Slim: c.slim || p.Pack.Slim, Smallest: c.smallest || p.Pack.Smallest, LeaveOut: p.Pack.LeaveOut, LeaveUnused: p.Pack.LeaveUnused,
		Without: slices.Concat(p.Pack.Without, c.without), AcceptErrors: c.acceptErrors,
	}
	for _, name := range to.Without {
		if err := settings.Within("step", name, stepNames()...); err != nil {
			return to, &usage{fmt.Sprintf("there is no step %q to leave out; there is: %s", name, strings.Join(stepNames(), ", ")), "havvel pack"}
		}
	}
	var err error
	to.Front, err = frontOf(p)
	return to, err
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
		return nil, &settings.Problem{File: filepath.Join(p.Folder, project.Name), Message: err.Error()}
	}
	return f, nil
}

// forbidden checks a build for a destination. When there are errors it prints them, and returns an error.
func (a *app) forbidden(p *project.Project, d *project.Destination, b *export.Build, c packChoices) error {
	s := subject(p, d, b)
	s.Without = append(s.Without, c.without...)
	findings := check.Run(s)
	if finding.Errors(findings) == 0 {
		return nil
	}
	if a.json {
		return &pack.Faulty{Findings: findings}
	}
	var errs []finding.Finding
	for _, f := range findings {
		if f.Level == finding.Error {
			errs = append(errs, f)
		}
	}
	a.showFindings(b, []check.Subject{s}, errs, len(check.Catalogue()))
	a.screen.Next("mend the errors, export again, and run havvel check")
	return &silent{answerNo}
}

// unkept warns that what was worked out could not be kept.
func (a *app) unkept(cache *pack.Cache) {
	if err := cache.Unkept(); err != nil {
		a.screen.Warn("can't keep what was compressed, so the next pack takes as long: %v", err)
	}
}

func (a *app) showPacked(d *project.Destination, b *export.Build, r archiveRow) {
	s := a.screen
	about := fmt.Sprintf("for %s, %s", d.Rules.Name, files(r.Entries))
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
		s.Line("  the files of %s as they are", b.Path)
	}
	n := finding.Errors(r.Findings)
	verdict := a.noErrors(b)
	if n > 0 {
		verdict = s.In(term.Bad, does(n, "1 error", fmt.Sprintf("%d errors", n)))
	}
	if a.dryRun {
		s.Line("  checked as it would be: %s", verdict)
	} else {
		s.Line("  read back and checked: whole, %s", verdict)
	}
	s.Line("")
}

// showSteps prints what changes, kind by kind; with --plan also why.
func (a *app) showSteps(steps []pack.Step) {
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

// exists reports whether there is a file of that name.
func exists(path string) bool {
	_, err := os.Lstat(path)
	return !errors.Is(err, os.ErrNotExist)
}
