package cli

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"havvel/internal/app"
	"havvel/internal/cli/term"
	"havvel/internal/export"
	"havvel/internal/fault"
	"havvel/internal/finding"
	"havvel/internal/inwords"
	"havvel/internal/project"
	"havvel/internal/proof"
	"havvel/internal/release"
	"havvel/internal/rulebook"
	"havvel/internal/settings"
	"havvel/internal/trial"
)

// trialFlags are what trial takes.
type trialFlags struct {
	app.Trying
	format string
	record bool
	live   string
}

func (a *console) trial() *cobra.Command {
	var f trialFlags
	c := a.new(command{
		use:   "trial [EXPORT]",
		short: "Run the build in a real browser, and say what was seen",
		long: "Trial packs the export for each destination, serves it the way that destination does, and runs it in a browser, in each " +
			"window in which players\n" +
			"see it: when it starts, how it fits, what it calls, what goes wrong. Steps in havvel.toml play the game. The report is one\n" +
			"page with pictures. It ends with 1 when something required failed, and with 3 when there is no browser.",
		example: "  havvel trial\n  havvel trial --to brackwater --view frame --watch 12s\n" +
			"  havvel trial --quick --browser firefox --as no-storage",
		args: cobra.MaximumNArgs(1),
		run:  func(ctx context.Context, args []string) error { return a.runTrial(ctx, args, f) },
	})
	c.Flags().StringVar(&f.format, "format", "text", "print as text, json, sarif (2.1.0) or junit")
	c.Flags().StringVar(&f.Report, "report", "", "`file` for the report (in .havvel/trials)")
	c.Flags().StringArrayVar(&f.Views, "view", nil, "only this `view` of the destination; may be repeated")
	c.Flags().BoolVar(&f.record, "record", false, "play in a window yourself; that becomes the steps of the trial")
	c.Flags().StringVar(&f.live, "live", "", "run what players get from this `destination`, and compare it with what was sent")
	c.RegisterFlagCompletionFunc("live", a.destinationNames)
	c.Flags().BoolVar(&f.Accept, "accept", false, "keep the first screens as the right ones (in first-screens)")
	c.Flags().BoolVar(&f.Quick, "quick", false, "only the first view")
	c.Flags().StringArrayVar(&f.Under, "as", nil, "the first view as these players have it, too: a `condition` such as cheap-phone")
	c.Flags().StringArrayVar(&f.Browsers, "browser", nil, "the `browser`: chromium, firefox, or a program; may be repeated")
	c.RegisterFlagCompletionFunc("as", cobra.FixedCompletions(rulebook.Conditions(), cobra.ShellCompDirectiveNoFileComp))
	c.RegisterFlagCompletionFunc("browser", cobra.FixedCompletions([]string{"chromium", "firefox"}, cobra.ShellCompDirectiveDefault))
	c.Flags().DurationVar(&f.Watch, "watch", 0, "how long to watch the game once it started (3s)")
	c.Flags().DurationVar(&f.Start, "start", 0, "the longest `time` to the first picture (20s)")
	c.RegisterFlagCompletionFunc("format", cobra.FixedCompletions(formats, cobra.ShellCompDirectiveNoFileComp))
	a.withEntry(c)
	a.withTo(c)
	return c
}

func (a *console) runTrial(ctx context.Context, args []string, f trialFlags) error {
	if err := oneOf("havvel trial", "--format", f.format, formats...); err != nil {
		return err
	}
	a.inForm(f.format)
	if f.Watch > 5*time.Minute || f.Start > 5*time.Minute {
		return wrong("havvel trial", "a trial watches for five minutes at most")
	}
	p, b, err := app.Open(ctx, args, a.entry, app.Known)
	if err != nil {
		return err
	}
	defer b.Close()
	k := &app.Desk{Report: a.screen.Progress(), Tell: a.happens}
	if p != nil {
		k = a.deskOf(p)
		if k.Destinations, err = p.Destinations(a.to); err != nil {
			return err
		}
	} else if len(a.to) > 0 {
		_, err := a.project()
		return err
	}
	if f.record {
		return a.recordTrial(ctx, k, b, f)
	}
	if f.live != "" {
		return a.tryLive(ctx, k, b, f)
	}
	f.EachFile = len(a.to) != 1
	programs, err := k.Browsers(f.Trying)
	if err != nil {
		return err
	}
	tried, err := k.Try(ctx, b, programs, f.Trying)
	if err != nil {
		return err
	}
	return a.printTrials(p, b, tried, f.format)
}

// tryLive runs what players get, and says how it compares with what was sent.
func (a *console) tryLive(ctx context.Context, k *app.Desk, b *export.Build, f trialFlags) error {
	if k.Project == nil {
		_, err := a.project()
		return err
	}
	to, err := k.Project.Destinations([]string{f.live})
	if err != nil {
		return err
	}
	how := app.Proving{Wanted: true, Release: release.Version()}
	if len(f.Browsers) > 0 {
		how.Browser = f.Browsers[0]
	}
	r, err := k.TryLive(ctx, to[0], b, how)
	if err != nil {
		return err
	}
	a.answer(r)
	s, p := a.screen, r.Proof
	s.Line("%s  %s", s.In(term.Strong, r.Link), s.In(term.Quiet, fmt.Sprintf("version %s on %s", r.Version, to[0].Rules.Name)))
	in := s.In(term.Quiet, fmt.Sprintf("(%s, %s)", p.Browser, p.View))
	switch p.Answer {
	case proof.Proven:
		s.Line("  %s: it runs there as well as what was sent runs here %s", s.In(term.Good, "proven"), in)
		return nil
	case proof.Worse:
		s.Line("  %s %s", s.In(term.Bad, "it runs worse there than what was sent runs here"), in)
		a.showGroup("Worse than what was sent", term.Bad, p.Findings, func(f finding.Finding) bool { return f.Accepted == "" }, false)
		s.Line("")
		s.Line("both sides: %s", inwords.Near(p.Report))
		a.screen.Next("havvel where --live --to %s", to[0].Name)
		return fault.Said
	}
	s.Paragraph(term.Careful, "  ", "    ", "it can't be told: "+inwords.Clean(p.Why))
	return nil
}

// recordTrial has somebody play, and shows the steps that come of it.
func (a *console) recordTrial(ctx context.Context, k *app.Desk, b *export.Build, f trialFlags) error {
	if k.Project == nil {
		_, err := a.project()
		return err
	}
	doc, err := k.Record(ctx, b, f.Trying)
	if err != nil {
		return err
	}
	a.answer(doc)
	for _, s := range doc.Steps {
		a.screen.Line("  %s", inwords.Clean(s))
	}
	a.screen.Line("%d steps are in %s", len(doc.Steps), doc.File)
	a.screen.Next("havvel trial  (plays them again, in each view)")
	return nil
}

func (a *console) showTrial(r *trial.Result, report string) {
	s := a.screen
	var rows [][]string
	for _, v := range r.Views {
		started := "never"
		if v.Answer == trial.Untold {
			started = "can't tell"
		}
		if v.Started {
			started = fmt.Sprintf("%.1fs", float64(v.StartMS)/1000)
		}
		fit := "no canvas"
		frames := fmt.Sprintf("%.0f", v.Frames)
		if v.Worst < v.Frames {
			frames += fmt.Sprintf(" (%.0f)", v.Worst)
		}
		if v.Answer == trial.No {
			frames, fit = "–", "–" // nobody looked
		}
		if v.Fit.Canvas {
			fit = fmt.Sprintf("%.0f %%", 100*v.Fit.Covers)
		}
		rows = append(
			rows,
			[]string{
				v.Name,
				fmt.Sprintf("%d by %d", v.Width, v.Height),
				started,
				settings.Size(v.Bytes).String(),
				frames,
				fit,
				calls(v),
			},
		)
	}
	defer a.report(r, report)
	s.Table([]string{"view", "size", "started in", "loaded", "frames/s", "covers", "heard"}, rows, 2, 3, 4, 5)
	if r.Software() {
		s.Paragraph(term.Quiet, "  ", "  ", "frames/s are the median (and the worst) of seconds; drawn without a graphics card, "+
			"they compare builds only")
	}
	s.Line("")
	open := slices.DeleteFunc(slices.Clone(r.Findings), func(f finding.Finding) bool { return f.Accepted != "" })
	for _, alike := range bundles(open) {
		title := ""
		for _, f := range alike {
			last := title
			if title = string(f.Level) + "  " + f.ID; f.File != "" {
				title += "  " + spot(f)
			}
			if title != last {
				tone := map[finding.Level]term.Tone{finding.Error: term.Bad, finding.Warning: term.Careful, finding.Note: term.Quiet}[f.Level]
				s.Line("  %s", s.In(tone, inwords.Clean(title)))
			}
			s.Paragraph(term.Plain, "    ", "    ", inwords.Clean(f.Message))
		}
		s.Paragraph(term.Quiet, "    → ", "      ", inwords.Clean(alike[0].Fix))
		s.Line("")
	}
}

// report prints the result's end: what was sent, the verdict, and where the report is.
func (a *console) report(r *trial.Result, path string) {
	s := a.screen
	for _, x := range r.Views[0].Sent {
		words := fmt.Sprintf(
			"%s sent %s: %s",
			x.Name,
			inwords.Of(len(x.Values), "once", fmt.Sprintf("%d times", len(x.Values))),
			strings.Join(x.Values, ", "),
		)
		if x.Keeps != "" {
			words += fmt.Sprintf("; %s is kept: %s", x.Keeps, x.Kept)
		}
		s.Paragraph(term.Plain, "  ", "    ", inwords.Clean(words))
	}
	tone := term.Good
	if r.Untold() {
		tone = term.Careful
	}
	if !r.Clean() {
		tone = term.Bad
	}
	s.Line("%s", s.In(tone, r.Verdict()))
	if path != "" {
		s.Line("report with pictures: %s", inwords.Near(path))
	}
}

// calls counts what was heard in a view.
func calls(v *trial.View) string {
	n := 0
	for _, e := range v.Heard {
		if e.Kind == "call" {
			n++
		}
	}
	return inwords.Of(n, "1 call", fmt.Sprintf("%d calls", n))
}

func (a *console) printTrials(p *project.Project, b *export.Build, doc *app.Trials, format string) error {
	var findings []finding.Finding
	var names []string
	for _, r := range doc.List {
		findings, names = append(findings, r.Findings...), append(names, r.Destination)
	}
	var err error
	a.answer(doc)
	switch {
	case a.raw && format == "sarif":
		err = a.screen.JSON(sarif(b, trial.Kinds(), findings))
	case a.raw:
		err = writeXML(a.out, junit("havvel trial", names, trial.Kinds(), findings))
	case finding.Errors(findings) > 0 && p == nil:
		a.screen.Next("fix the errors, export again, and run havvel trial once more; --report FILE writes a report with pictures")
	case finding.Errors(findings) > 0:
		a.screen.Next("open the report; fix the errors, export again, and run havvel trial once more")
	default:
		a.nextTowards(p, "havvel send")
	}
	if err != nil {
		return err
	}
	return a.faulty(findings)
}
