package cli

import (
	"context"
	"errors"
	"fmt"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"havvel/internal/app"
	"havvel/internal/cli/term"
	"havvel/internal/compare"
	"havvel/internal/deliver"
	"havvel/internal/fault"
	"havvel/internal/finding"
	"havvel/internal/inwords"
	"havvel/internal/project"
	"havvel/internal/settings"
)

func (a *console) compare() *cobra.Command {
	var most string
	c := a.new(command{
		use:   "compare [A [B]]",
		short: "What changed between two builds",
		long: "Compare says what changed from A to B: files, sizes, WebAssembly, other hosts, findings. A and B are exports, archives, or\n" +
			"versions that were sent: their archives in packed, or what a site keeps of them. Left out, A is the version that was sent last, and\n" +
			"B what the project's export would be packed to. The last line fits into release notes.",
		example: "  havvel compare\n  havvel compare 0.4.0 0.4.1 --to brackwater\n  havvel compare old.zip export/web --fail-over 5%",
		args:    cobra.MaximumNArgs(2),
		run:     func(ctx context.Context, args []string) error { return a.runCompare(ctx, args, most) },
	})
	c.Flags().StringVar(&most, "fail-over", "", "end with 1 when B is larger than A by more than this `share`, such as 5%")
	a.withTo(c)
	return c
}

func (a *console) runCompare(ctx context.Context, args []string, most string) error {
	limit, err := share(most)
	if err != nil {
		return err
	}
	p, err := project.Find(".")
	if err != nil && !errors.Is(err, project.ErrNone) {
		return err
	}
	var courier *deliver.Courier
	if p != nil {
		courier = a.courier(p)
	}
	r, err := app.Compare(ctx, p, courier, args, a.to, a.entry, a.screen.Progress())
	if err != nil {
		return err
	}
	a.answer(r)
	a.showComparison(r)
	if most != "" && r.Growth() > limit {
		a.screen.Line("%s", a.screen.In(term.Bad, fmt.Sprintf("it grew by more than %s", most)))
		return fault.Said
	}
	return nil
}

// share reads a share such as 5% or 0.05.
func share(text string) (float64, error) {
	if text == "" {
		return 0, nil
	}
	number, percent := strings.CutSuffix(strings.TrimSpace(text), "%")
	n, err := strconv.ParseFloat(strings.TrimSpace(number), 64)
	if err != nil || n < 0 {
		return 0, wrong("havvel compare", "--fail-over is %q; write a share such as 5%%", text)
	}
	if percent {
		n /= 100
	}
	return n, nil
}

// mostShown is how many files of one sort are named.
const mostShown = 12

func (a *console) showComparison(r *compare.Result) {
	s := a.screen
	s.Table([]string{"", "files", "size"}, [][]string{
		{r.From.Name, strconv.Itoa(r.From.Files), settings.Size(r.From.Bytes).String()},
		{r.To.Name, strconv.Itoa(r.To.Files), settings.Size(r.To.Bytes).String()},
	}, 1, 2)
	s.Line("")
	a.showFileChanges(r)
	var rows [][]string
	for _, k := range r.Kinds {
		if k.Before != k.After {
			rows = append(rows, []string{k.Kind, settings.Size(k.Before).String(), settings.Size(k.After).String(), change(k.After - k.Before)})
		}
	}
	if len(rows) > 0 {
		s.Table([]string{"kind", "before", "after", "change"}, rows, 1, 2, 3)
		s.Line("")
	}
	a.showFactChanges(r)
	for _, f := range r.Findings {
		tone, word := term.Good, "gone"
		if f.New {
			tone, word = map[finding.Level]term.Tone{finding.Error: term.Bad, finding.Warning: term.Careful}[f.Level], "new "
		}
		s.Paragraph(term.Plain, "  "+s.In(tone, word)+"  ", "        ",
			inwords.Clean(fmt.Sprintf("%s %s %s: %s", f.Level, f.ID, f.File, f.Message)))
	}
	if len(r.Findings) > 0 {
		s.Line("")
	}
	s.Line("%s", s.In(term.Strong, r.Line()))
}

// showFileChanges names the files, the largest changes first.
func (a *console) showFileChanges(r *compare.Result) {
	s := a.screen
	var rows [][]string
	list := func(word string, files []compare.File) {
		for i, f := range files {
			if i == mostShown {
				rows = append(rows, []string{"", fmt.Sprintf("and %d more, in --json", len(files)-i), ""})
				break
			}
			rows = append(rows, []string{word, inwords.Clean(f.Path), change(f.After - f.Before)})
		}
	}
	list("changed", r.Changed)
	list("added", r.Added)
	list("removed", r.Removed)
	for i, m := range r.Moved {
		if i == mostShown {
			rows = append(rows, []string{"", fmt.Sprintf("and %d more, in --json", len(r.Moved)-i), ""})
			break
		}
		words := inwords.Clean(m.From + " to " + m.To)
		if m.Recoded {
			words += ", the same content compressed in another way"
		}
		rows = append(rows, []string{"moved", words, ""})
	}
	if len(rows) > 0 {
		s.Table(nil, rows, 2)
		s.Line("")
	}
}

// showFactChanges says what changed in what the builds ask for.
func (a *console) showFactChanges(r *compare.Result) {
	var lines []string
	add := func(format string, args ...any) { lines = append(lines, fmt.Sprintf(format, args...)) }
	if w := r.Wasm; w.MemoryBefore != w.MemoryAfter {
		add("WebAssembly asks for %s at the start, and asked for %s", settings.Size(w.MemoryAfter), settings.Size(w.MemoryBefore))
	}
	both := func(c compare.Change, now, before string) {
		if len(c.New) > 0 {
			add(now, inwords.List(c.New))
		}
		if len(c.Gone) > 0 {
			add(before, inwords.List(c.Gone))
		}
	}
	both(r.Wasm.Features, "WebAssembly now uses %s", "WebAssembly uses %s no more")
	both(r.Hosts, "it now names the host %s", "it names the host %s no more")
	both(r.Calls, "it now calls %s", "it calls %s no more")
	if l := r.Links; l.MissingBefore != l.MissingAfter {
		add("%s to no file; before, %s did", inwords.Of(l.MissingAfter, "1 link leads", fmt.Sprintf("%d links lead", l.MissingAfter)),
			inwords.Of(l.MissingBefore, "one", fmt.Sprint(l.MissingBefore)))
	}
	if r.From.Entry != r.To.Entry {
		add("the entry page is %s, and was %s", r.To.Entry, r.From.Entry)
	}
	if r.From.Shape != r.To.Shape {
		add("the shape is %s, and was %s", r.To.Shape, r.From.Shape)
	}
	for _, l := range lines {
		a.screen.Paragraph(term.Plain, "  ", "  ", inwords.Clean(l))
	}
	if len(lines) > 0 {
		a.screen.Line("")
	}
}
