package cli

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"havvel/internal/app"
	"havvel/internal/check"
	"havvel/internal/cli/term"
	"havvel/internal/export"
	"havvel/internal/fault"
	"havvel/internal/finding"
	"havvel/internal/inwords"
	"havvel/internal/pack"
	"havvel/internal/project"
	"havvel/internal/proof"
	"havvel/internal/release"
	"havvel/internal/settings"
)

func (a *console) pack() *cobra.Command {
	var f app.Packing
	c := a.new(command{
		use:   "pack [EXPORT]",
		short: "Write the archives that the destinations want",
		long: "Pack works out what has to differ from the export for each destination, says so, and writes the archive.\n" +
			"It never changes the export; the same export gives the same bytes. The archive is read back and checked before it gets\n" +
			"its name. --plan only says what would change; --prove runs export and archive side by side in a browser, and writes no\n" +
			"archive that runs worse.",
		example: "  havvel pack --plan\n  havvel pack --to brackwater --slim --out archives\n  havvel pack --prove",
		args:    cobra.MaximumNArgs(1),
		run: func(ctx context.Context, args []string) error {
			f.Unsummed = !a.json
			return a.runPack(ctx, args, f)
		},
	})
	c.Flags().StringVarP(&f.Folder, "out", "o", "", "`folder` for the archives (packed, beside havvel.toml)")
	c.Flags().StringVar(&f.Version, "version", "", "`version` in the archive's name (the one in havvel.toml)")
	c.Flags().BoolVar(&a.dryRun, "plan", false, "say what would change, and why, and write nothing")
	c.Flags().BoolVar(&f.Wanted, "prove", false, "run the export and what is handed over side by side, and compare")
	a.withBrowser(c, &f.Browser)
	a.withChoices(c, &f.Choices)
	a.withTo(c)
	a.withDryRun(c, "the same as --plan")
	return c
}

// withBrowser adds the flag that names the browser of a proof.
func (a *console) withBrowser(c *cobra.Command, to *string) {
	c.Flags().StringVar(to, "browser", "", "the `browser` that proves it: chromium, firefox, or a program")
	c.RegisterFlagCompletionFunc("browser", cobra.FixedCompletions([]string{"chromium", "firefox"}, cobra.ShellCompDirectiveDefault))
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

func (a *console) runPack(ctx context.Context, args []string, f app.Packing) error {
	k, err := a.desk()
	if err != nil {
		return err
	}
	if f.Version, err = app.Version(k.Project, f.Version); err != nil {
		return err
	}
	_, b, err := app.Open(ctx, args, a.entry, app.Exact)
	if err != nil {
		return err
	}
	defer b.Close()
	f.Release = release.Version()
	packed, err := k.Pack(ctx, b, f)
	if packed != nil && packed.Unkept != nil {
		a.screen.Warn("can't keep what was compressed, so the next pack takes as long: %v", packed.Unkept)
	}
	if err != nil {
		return a.refusal(k.Project, b, err)
	}
	for i, d := range k.Destinations {
		a.showPacked(d, b, packed.List[i])
	}
	a.answer(packed)
	if a.dryRun {
		a.screen.Next("havvel pack%s%s  (writes it)", a.toFlags(), argument(args))
	} else {
		if !f.Wanted && slices.ContainsFunc(packed.List, func(r app.Archive) bool { return r.Proof == nil }) {
			a.screen.Next("havvel pack --prove%s%s  (runs it beside your export)", a.toFlags(), argument(args))
		}
		a.screen.Next("havvel send%s%s", a.toFlags(), argument(args))
	}
	return nil
}

// refusal prints the findings for which a destination would not take a build, where that is the error, instead of naming the first.
func (a *console) refusal(p *project.Project, b *export.Build, err error) error {
	var worse *app.Less
	if errors.As(err, &worse) {
		return a.lesser(worse)
	}
	var faulty *app.Barred
	if !errors.As(err, &faulty) {
		return err
	}
	a.answer(checkJSON{faulty.Findings})
	if a.json {
		return err
	}
	a.showFindings(b, []check.Subject{app.Subject(p, faulty.At, b)}, faulty.Findings, len(check.Catalogue()))
	a.screen.Next("fix the errors, export again, and run havvel check")
	return fault.Said
}

func (a *console) showPacked(d *project.Destination, b *export.Build, r app.Archive) {
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
	if r.Proof != nil {
		a.showProof(r.Proof)
	}
	s.Line("")
}

// showProof says in one line whether what is handed over runs as well as the export.
func (a *console) showProof(p *app.Proof) {
	s := a.screen
	in := s.In(term.Quiet, fmt.Sprintf("(%s, %s)", p.Browser, p.View))
	switch p.Answer {
	case proof.Proven:
		s.Line("  %s: it runs as well as your export %s", s.In(term.Good, "proven"), in)
		a.showInferred(p)
	case proof.Worse:
		s.Line("  %s: %s %s", s.In(term.Bad, "worse than your export"), inwords.Clean(p.Findings[0].Message), in)
	default:
		s.Paragraph(term.Careful, "  ", "    ", "not proven: "+inwords.Clean(p.Why))
	}
}

// showInferred says when pack's adapter sent what it found out.
func (a *console) showInferred(p *app.Proof) {
	var words []string
	for _, i := range p.Inferred {
		words = append(words, fmt.Sprintf("%s after %s", i.Event, seconds(float64(i.MS)/1000)))
	}
	for _, event := range p.Unsent {
		words = append(words, event+" not in this run")
	}
	if len(words) > 0 {
		a.screen.Paragraph(term.Quiet, "    ", "    ", "inferred: "+strings.Join(words, ", "))
	}
}

// lesser prints what is worse than in the export, instead of naming the first.
func (a *console) lesser(e *app.Less) error {
	a.answer(struct {
		Proof *app.Proof `json:"proof"`
	}{e.Proof})
	if a.json {
		return e
	}
	s := a.screen
	s.Line("%s  %s", s.In(term.Bad, "What "+e.At.Rules.Name+" would get runs worse than your export"),
		s.In(term.Quiet, fmt.Sprintf("(%s, %s)", e.Proof.Browser, e.Proof.View)))
	a.showGroup("Worse than in the export", term.Bad, e.Proof.Findings, func(f finding.Finding) bool { return f.Accepted == "" }, false)
	s.Line("")
	s.Line("nothing was written or sent for it; both sides: %s", inwords.Near(e.Proof.Report))
	for _, step := range e.Proof.Without {
		s.Next("havvel pack --prove --to %s --without %s", e.At.Name, step)
	}
	return fault.Said
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
		words := inwords.Clean(step.What)
		if step.Bytes != 0 {
			words += " (" + change(step.Bytes) + ")"
		}
		s.Paragraph(term.Plain, lead, strings.Repeat(" ", 13), words)
		if a.dryRun && step.Why != "" {
			s.Paragraph(term.Quiet, strings.Repeat(" ", 15), strings.Repeat(" ", 15), inwords.Clean(step.Why))
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
