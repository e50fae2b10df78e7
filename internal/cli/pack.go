package cli

import (
	"context"
	"errors"
	"fmt"
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
	"havvel/internal/settings"
)

func (a *console) pack() *cobra.Command {
	var f app.Packing
	c := a.new(command{
		use:   "pack [EXPORT]",
		short: "Write the archives that the destinations want",
		long: "Pack works out what has to differ from the export for each destination, says so, and writes the archive.\n" +
			"It never changes the export; the same export gives the same bytes. The archive is read back and checked before it gets\n" +
			"its name. --plan only says what would change.",
		example: "  havvel pack --plan\n  havvel pack --to brackwater --slim --out archives",
		args:    cobra.MaximumNArgs(1),
		run: func(ctx context.Context, args []string) error {
			f.Unsummed = !a.json
			return a.runPack(ctx, args, f)
		},
	})
	c.Flags().StringVarP(&f.Folder, "out", "o", "", "`folder` for the archives (packed, beside havvel.toml)")
	c.Flags().StringVar(&f.Version, "version", "", "`version` in the archive's name (the one in havvel.toml)")
	c.Flags().BoolVar(&a.dryRun, "plan", false, "say what would change, and why, and write nothing")
	a.withChoices(c, &f.Choices)
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
		a.screen.Next("havvel send%s%s", a.toFlags(), argument(args))
	}
	return nil
}

// refusal prints the findings for which a destination would not take a build, where that is the error, instead of naming the first.
func (a *console) refusal(p *project.Project, b *export.Build, err error) error {
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
