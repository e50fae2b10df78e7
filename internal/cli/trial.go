package cli

import (
	"bytes"
	"context"
	"fmt"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"havvel/internal/app"
	"havvel/internal/atomicfile"
	"havvel/internal/cli/term"
	"havvel/internal/export"
	"havvel/internal/finding"
	"havvel/internal/inwords"
	"havvel/internal/project"
	"havvel/internal/rulebook"
	"havvel/internal/settings"
	"havvel/internal/trial"
)

// trialFlags are what trial takes.
type trialFlags struct {
	format, report string
	views          []string
	watch, start   time.Duration
}

func (a *console) trial() *cobra.Command {
	var f trialFlags
	c := a.new(command{
		use:   "trial [EXPORT]",
		short: "Run the build in a real browser, and say what was seen",
		long: "Trial packs the export for each destination, serves it the way that destination does, and runs it in Chromium, in each " +
			"window in which players\n" +
			"see it: when it starts, how it fits, what it calls, what goes wrong. Steps in havvel.toml play the game. The report is one\n" +
			"page with pictures. It ends with 1 when something required failed, and with 3 when there is no browser.",
		example: "  havvel trial\n  havvel trial --to brackwater --view frame --watch 12s",
		args:    cobra.MaximumNArgs(1),
		run:     func(ctx context.Context, args []string) error { return a.runTrial(ctx, args, f) },
	})
	c.Flags().StringVar(&f.format, "format", "text", "print as text, json, sarif (2.1.0) or junit")
	c.Flags().StringVar(&f.report, "report", "", "`file` for the report (in .havvel/trials)")
	c.Flags().StringArrayVar(&f.views, "view", nil, "only this `view` of the destination; may be repeated")
	c.Flags().DurationVar(&f.watch, "watch", 0, "how long to watch the game once it started (3s)")
	c.Flags().DurationVar(&f.start, "start", 0, "the longest `time` to the first picture (20s)")
	c.RegisterFlagCompletionFunc("format", cobra.FixedCompletions(formats, cobra.ShellCompDirectiveNoFileComp))
	a.withEntry(c)
	a.withTo(c)
	return c
}

type trialJSON struct {
	Trials []*trial.Result `json:"trials"`
}

func (a *console) runTrial(ctx context.Context, args []string, f trialFlags) error {
	if err := oneOf("havvel trial", "--format", f.format, formats...); err != nil {
		return err
	}
	a.inForm(f.format)
	if f.watch > 5*time.Minute || f.start > 5*time.Minute {
		return wrong("havvel trial", "a trial watches for five minutes at most")
	}
	browser, err := trial.FindBrowser()
	if err != nil {
		return err
	}
	p, b, err := app.Open(ctx, args, a.entry, app.Known)
	if err != nil {
		return err
	}
	defer b.Close()
	if b.Entry == nil {
		return &export.Unreadable{
			Path:   b.Path,
			Reason: "there is no page in it that could be tried",
			Next:   "name the folder or zip that the engine wrote",
		}
	}
	var destinations []*project.Destination
	if p != nil {
		if destinations, err = p.Destinations(a.to); err != nil {
			return err
		}
	} else if len(a.to) > 0 {
		_, err := a.project()
		return err
	}
	if len(destinations) == 0 {
		destinations = []*project.Destination{nil}
	}
	doc := trialJSON{}
	for _, d := range destinations {
		if len(destinations) > 1 && len(f.views) > 0 && !hasView(d, f.views) {
			continue // it is asked for at another
		}
		r, err := a.tryOne(ctx, p, d, b, browser, f)
		if err != nil {
			return err
		}
		doc.Trials = append(doc.Trials, r)
	}
	return a.printTrials(p, b, doc, f.format)
}

// hasView reports whether a destination has one of the views named.
func hasView(d *project.Destination, names []string) bool {
	return slices.ContainsFunc(d.Rules.Views, func(v rulebook.View) bool { return slices.Contains(names, v.Name) })
}

// tryOne runs a build as one destination shows it, keeps the result, and writes its report.
func (a *console) tryOne(
	ctx context.Context,
	p *project.Project,
	d *project.Destination,
	b *export.Build,
	browser string,
	f trialFlags,
) (*trial.Result, error) {
	t := &trial.Trial{Build: b, Fingerprint: b.Fingerprint, Browser: browser, Start: 20 * time.Second, Watch: 3 * time.Second, Only: f.views}
	if err := fill(t, p, f); err != nil {
		return nil, err
	}
	name := "a plain host"
	if d != nil {
		packed, err := app.AsPacked(ctx, p, d, b, a.screen.Progress())
		if err != nil {
			return nil, err
		}
		t.Build, t.Destination, t.Rules, name = packed, d.Name, d.Rules, d.Rules.Name
	}
	if p != nil {
		t.Before = trial.Last(p.Folder, t.Destination)
	}
	a.screen.Line("%s as on %s", a.screen.In(term.Strong, term.Clean(titleOf(b))), name)
	progress := a.screen.Progress()
	progress.Begin("trying it on "+name, 0)
	r, err := t.Run(ctx)
	progress.End()
	if err != nil {
		return nil, err
	}
	if p != nil {
		if err := r.Keep(p.Folder); err != nil {
			return nil, err
		}
	}
	path, err := a.writeReport(p, d, b, r, f.report)
	if err != nil {
		return nil, err
	}
	a.showTrial(r, path)
	return r, nil
}

// fill takes what project and command line say of a trial.
func fill(t *trial.Trial, p *project.Project, f trialFlags) error {
	if p != nil {
		t.Statistics, t.Accepts = p.Statistics, app.Accepts(p)
		for i, line := range p.Trial.Steps {
			s, err := trial.Parse(line)
			if err != nil {
				return p.Problem(fmt.Sprintf("trial.steps[%d]", i), "trial.steps: %w", err)
			}
			t.Steps = append(t.Steps, s)
		}
		if p.Trial.Start > 0 {
			t.Start = time.Duration(p.Trial.Start)
		}
		if p.Trial.Watch > 0 {
			t.Watch = time.Duration(p.Trial.Watch)
		}
	}
	if f.start > 0 {
		t.Start = f.start
	}
	if f.watch > 0 {
		t.Watch = f.watch
	}
	return nil
}

// writeReport writes the report where it was asked for, or into the project; without both it goes nowhere.
func (a *console) writeReport(p *project.Project, d *project.Destination, b *export.Build, r *trial.Result, path string) (string, error) {
	portal := ""
	if d != nil {
		portal = d.Rules.Name
	}
	switch {
	case path == "" && p == nil:
		return "", nil
	case path == "" && d == nil:
		path = filepath.Join(p.Folder, ".havvel", "trials", "any.html")
	case path == "":
		path = filepath.Join(p.Folder, ".havvel", "trials", d.Name+".html")
	case d != nil && len(a.to) != 1 && len(p.To) > 1: // one file for each
		path = strings.TrimSuffix(path, ".html") + "-" + d.Name + ".html"
	}
	var page bytes.Buffer
	if err := r.Report(&page, titleOf(b), portal); err != nil {
		return "", err
	}
	return inwords.Near(path), atomicfile.Bytes(path, page.Bytes())
}

func (a *console) showTrial(r *trial.Result, report string) {
	s := a.screen
	var rows [][]string
	for _, v := range r.Views {
		started := "never"
		if v.Started {
			started = fmt.Sprintf("%.1fs", float64(v.StartMS)/1000)
		}
		fit := "no canvas"
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
				fmt.Sprintf("%.0f", v.Frames),
				fit,
				calls(v),
			},
		)
	}
	defer a.report(r, report)
	s.Table([]string{"view", "size", "started in", "loaded", "frames/s", "covers", "heard"}, rows, 2, 3, 4, 5)
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
				s.Line("  %s", s.In(tone, term.Clean(title)))
			}
			s.Paragraph(term.Plain, "    ", "    ", term.Clean(f.Message))
		}
		s.Paragraph(term.Quiet, "    → ", "      ", term.Clean(alike[0].Fix))
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
		s.Paragraph(term.Plain, "  ", "    ", term.Clean(words))
	}
	tone := term.Good
	if !r.Clean() {
		tone = term.Bad
	}
	s.Line("%s", s.In(tone, r.Verdict()))
	if path != "" {
		s.Line("report with pictures: %s", path)
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

func (a *console) printTrials(p *project.Project, b *export.Build, doc trialJSON, format string) error {
	var findings []finding.Finding
	var names []string
	for _, r := range doc.Trials {
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
