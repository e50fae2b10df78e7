package cli

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"os"
	"slices"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"havvel/internal/check"
	"havvel/internal/cli/term"
	"havvel/internal/compare"
	"havvel/internal/export"
	"havvel/internal/finding"
	"havvel/internal/logbook"
	"havvel/internal/pack"
	"havvel/internal/project"
	"havvel/internal/settings"
)

func (a *app) compare() *cobra.Command {
	var most string
	c := a.new(command{
		use:   "compare [A [B]]",
		short: "What changed between two builds",
		long: "Compare says what changed from A to B: files, sizes, WebAssembly, other hosts, findings. A and B are exports, archives, or\n" +
			"versions that were sent and whose archives are still in packed; left out, A is the version that was sent last, and B what the\n" +
			"project's export would be packed to. The last line fits into release notes.",
		example: "  havvel compare\n  havvel compare 0.4.0 0.4.1 --to brackwater\n  havvel compare old.zip export/web --fail-over 5%",
		args:    cobra.MaximumNArgs(2),
		run:     func(ctx context.Context, args []string) error { return a.runCompare(ctx, args, most) },
	})
	c.Flags().StringVar(&most, "fail-over", "", "end with 1 when B is larger than A by more than this `share`, such as 5%")
	a.withTo(c)
	a.withJSON(c)
	return c
}

func (a *app) runCompare(ctx context.Context, args []string, most string) error {
	limit, err := share(most)
	if err != nil {
		return err
	}
	p, err := project.Find(".")
	if err != nil && !errors.Is(err, project.ErrNone) {
		return err
	}
	from, d, err := a.side(ctx, p, slices.Concat(args, []string{"", ""})[0], nil, true)
	if err != nil {
		return err
	}
	defer from.Close()
	to, other, err := a.side(ctx, p, slices.Concat(args, []string{"", ""})[1], d, false)
	if err != nil {
		return err
	}
	defer to.Close()
	if d == nil {
		d = other
	}
	r := compare.Builds(from, to, wantedCalls(p), func(b *export.Build) []finding.Finding {
		s := check.Subject{Build: b}
		if d != nil {
			s.Destination, s.Rules = d.Name, d.Rules
		}
		if p != nil {
			s.Accepts = accepts(p)
		}
		return check.Run(s)
	})
	if a.json {
		err = a.screen.JSON(r)
	} else {
		a.showComparison(r)
	}
	if err == nil && most != "" && r.Growth() > limit {
		if !a.json {
			a.screen.Line("%s", a.screen.In(term.Bad, fmt.Sprintf("it grew by more than %s", most)))
		}
		return &silent{answerNo}
	}
	return err
}

// share reads a share such as 5% or 0.05.
func share(text string) (float64, error) {
	if text == "" {
		return 0, nil
	}
	number, percent := strings.CutSuffix(strings.TrimSpace(text), "%")
	n, err := strconv.ParseFloat(strings.TrimSpace(number), 64)
	if err != nil || n < 0 {
		return 0, &usage{fmt.Sprintf("--fail-over is %q; write a share such as 5%%", text), "havvel compare"}
	}
	if percent {
		n /= 100
	}
	return n, nil
}

// side is one of the two builds: a path, a version that was sent, or what is meant when nothing is said. A version that was
// sent belongs to a destination, which is returned; with one, the project's export is what would be packed for it.
func (a *app) side(ctx context.Context, p *project.Project, name string, d *project.Destination, first bool) (*export.Build, *project.Destination, error) {
	if name != "" && exists(name) {
		b, err := known(ctx, p, name)
		return b, nil, err
	}
	if p == nil && name != "" {
		return nil, nil, &export.Unreadable{Path: name, Reason: "there is nothing there", Next: "name two exports or archives; versions can be named where there is a " + project.Name}
	}
	if p == nil {
		return nil, nil, &usage{"there is nothing to compare: name two exports or archives", "havvel compare"}
	}
	if name != "" || first {
		return a.sent(ctx, p, name)
	}
	b, err := known(ctx, p, term.Near(p.ExportPath()))
	if err == nil {
		err = a.enter(p, b, true)
	}
	if err != nil || d == nil {
		return b, nil, err
	}
	result, err := a.asPacked(ctx, p, d, b)
	if err != nil {
		return nil, nil, err
	}
	result.Path = fmt.Sprintf("%s, as it would be packed for %s", b.Path, d.Rules.Name)
	return result, d, nil
}

// sent is the archive of a version that was sent, the last one when none is named.
func (a *app) sent(ctx context.Context, p *project.Project, version string) (*export.Build, *project.Destination, error) {
	all, _, err := logbook.Open(p.Folder).Deliveries()
	if err != nil {
		return nil, nil, err
	}
	for _, l := range slices.Backward(all) {
		d := p.To[l.Destination]
		if d == nil || version != "" && l.Version != version || len(a.to) > 0 && !slices.Contains(a.to, l.Destination) {
			continue
		}
		b, err := archiveOf(ctx, p, d, l)
		return b, d, err
	}
	if version == "" {
		return nil, nil, &usage{"nothing was sent yet, so there is no version to compare with: name two exports or archives", "havvel compare"}
	}
	return nil, nil, &export.Unreadable{Path: version, Reason: "it is neither a file or folder nor a version that was sent", Next: "havvel where shows the versions that were sent"}
}

// archiveOf reads the archive of a delivery, if it is still the one that was sent.
func archiveOf(ctx context.Context, p *project.Project, d *project.Destination, l *logbook.Delivery) (*export.Build, error) {
	stem := archivePath(p, d, "", l.Version)
	b, err := pack.Read(ctx, stem)
	gone := func(why string) error {
		return &export.Unreadable{Path: l.Version, Reason: fmt.Sprintf("its archive for %s %s", d.Rules.Name, why), Next: "keep what is in packed to compare with later, or name an export or archive"}
	}
	if errors.Is(err, os.ErrNotExist) {
		return nil, gone("is not in packed any more")
	}
	if err != nil {
		return nil, err
	}
	if sum, err := sumOf(b.Path); b.Source == "zip" && err == nil && l.SHA256 != "" && sum != l.SHA256 {
		b.Close()
		return nil, gone("was packed again since, and is not the one that was sent")
	}
	b.Path = fmt.Sprintf("%s on %s", l.Version, d.Rules.Name)
	return b, nil
}

func sumOf(path string) (string, error) {
	f, err := os.Open(path)
	if err != nil {
		return "", err
	}
	defer f.Close()
	h := sha256.New()
	_, err = io.Copy(h, f)
	return hex.EncodeToString(h.Sum(nil)), err
}

// wantedCalls lists the calls that the project's portals want.
func wantedCalls(p *project.Project) []string {
	if p == nil {
		return nil
	}
	var list []string
	for _, d := range p.To {
		for _, h := range d.Rules.Hooks {
			list = append(list, h.Wanted(false)...)
		}
	}
	return list
}

// mostShown is how many files of one sort are named.
const mostShown = 12

func (a *app) showComparison(r *compare.Result) {
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
		s.Paragraph(term.Plain, "  "+s.In(tone, word)+"  ", "        ", term.Clean(fmt.Sprintf("%s %s %s: %s", f.Level, f.ID, f.File, f.Message)))
	}
	if len(r.Findings) > 0 {
		s.Line("")
	}
	s.Line("%s", s.In(term.Strong, r.Line()))
}

// showFileChanges names the files, the largest changes first.
func (a *app) showFileChanges(r *compare.Result) {
	s := a.screen
	var rows [][]string
	list := func(word string, files []compare.File) {
		for i, f := range files {
			if i == mostShown {
				rows = append(rows, []string{"", fmt.Sprintf("and %d more, in --json", len(files)-i), ""})
				break
			}
			rows = append(rows, []string{word, term.Clean(f.Path), change(f.After - f.Before)})
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
		words := term.Clean(m.From + " to " + m.To)
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
func (a *app) showFactChanges(r *compare.Result) {
	var lines []string
	add := func(format string, args ...any) { lines = append(lines, fmt.Sprintf(format, args...)) }
	if w := r.Wasm; w.MemoryBefore != w.MemoryAfter {
		add("WebAssembly asks for %s at the start, and asked for %s", settings.Size(w.MemoryAfter), settings.Size(w.MemoryBefore))
	}
	both := func(c compare.Change, now, before string) {
		if len(c.New) > 0 {
			add(now, list(c.New))
		}
		if len(c.Gone) > 0 {
			add(before, list(c.Gone))
		}
	}
	both(r.Wasm.Features, "WebAssembly now uses %s", "WebAssembly uses %s no more")
	both(r.Hosts, "it now names the host %s", "it names the host %s no more")
	both(r.Calls, "it now calls %s", "it calls %s no more")
	if l := r.Links; l.MissingBefore != l.MissingAfter {
		add("%d links lead to no file; before, %d did", l.MissingAfter, l.MissingBefore)
	}
	if r.From.Entry != r.To.Entry {
		add("the entry page is %s, and was %s", r.To.Entry, r.From.Entry)
	}
	if r.From.Shape != r.To.Shape {
		add("the shape is %s, and was %s", r.To.Shape, r.From.Shape)
	}
	for _, l := range lines {
		a.screen.Paragraph(term.Plain, "  ", "  ", term.Clean(l))
	}
	if len(lines) > 0 {
		a.screen.Line("")
	}
}
