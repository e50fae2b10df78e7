package cli

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"maps"
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
	"havvel/internal/project"
	"havvel/internal/proof"
	"havvel/internal/rulebook"
	"havvel/internal/settings"
	"havvel/internal/trial"
)

type checkFlags struct {
	explain, format, level string
	only                   []string
}

func (a *console) check() *cobra.Command {
	var f checkFlags
	c := a.new(command{
		use:   "check [EXPORT]",
		short: "What would go wrong, and how to fix it",
		long: "Check reads an export and says what would go wrong with it: for the destinations in havvel.toml, or for any host when\n" +
			"there is no project. It ends with 1 when there are errors. What havvel pack fixes by itself is only noted.",
		example: "  havvel check\n  havvel check export/web --to brackwater\n  havvel check --explain link-case",
		args:    cobra.MaximumNArgs(1),
		run:     func(ctx context.Context, args []string) error { return a.runCheck(ctx, args, f) },
	})
	c.Flags().StringVar(&f.explain, "explain", "", "say what the check of this `id` looks for, and read no export")
	c.Flags().StringVar(&f.format, "format", "text", "print as text, json, sarif (2.1.0) or junit")
	c.Flags().StringVar(&f.level, "level", "note", "show findings of this `level` and above: note, warning, error")
	c.Flags().StringArrayVar(&f.only, "only", nil, "run only the check of this `id`, or the checks whose ids begin with it; may be repeated")
	c.RegisterFlagCompletionFunc("format", cobra.FixedCompletions(formats, cobra.ShellCompDirectiveNoFileComp))
	c.RegisterFlagCompletionFunc("level", cobra.FixedCompletions(levels, cobra.ShellCompDirectiveNoFileComp))
	for _, flag := range []string{"explain", "only"} {
		c.RegisterFlagCompletionFunc(flag, cobra.FixedCompletions(checkIDs(), cobra.ShellCompDirectiveNoFileComp))
	}
	a.withEntry(c)
	a.withTo(c)
	return c
}

var (
	formats = []string{"text", "json", "sarif", "junit"}
	levels  = []string{string(finding.Note), string(finding.Warning), string(finding.Error)}
)

func checkIDs() []string {
	var ids []string
	for _, c := range check.Catalogue() {
		ids = append(ids, c.ID)
	}
	return ids
}

type checkJSON struct {
	Findings []finding.Finding `json:"findings"`
}

// verify says what is wrong with the flags.
func (f *checkFlags) verify() error {
	if err := errors.Join(oneOf("havvel check", "--format", f.format, formats...),
		oneOf("havvel check", "--level", f.level, levels...)); err != nil {
		return err
	}
	for _, id := range f.only {
		if !slices.ContainsFunc(checkIDs(), func(known string) bool { return matches(known, id) }) {
			return unknownCheck("--only", id)
		}
	}
	return nil
}

// matches reports whether a check is the one of that id, or one of the family of that name.
func matches(check, id string) bool { return check == id || strings.HasPrefix(check, id+"-") }

func unknownCheck(flag, id string) error {
	message := fmt.Sprintf("%s: there is no check %q", flag, id)
	if near := settings.Nearest(id, checkIDs()); near != "" {
		message += fmt.Sprintf("; did you mean %q?", near)
	}
	return wrong("havvel check", "%s", message)
}

func (a *console) runCheck(ctx context.Context, args []string, f checkFlags) error {
	if f.explain != "" {
		return a.explain(f.explain)
	}
	if err := f.verify(); err != nil {
		return err
	}
	a.inForm(f.format)
	p, b, err := app.Open(ctx, args, a.entry, app.Known)
	if err != nil {
		return err
	}
	defer b.Close()
	all, err := app.Subjects(ctx, p, b, a.to, len(args) == 0, a.screen.Progress())
	if err != nil {
		return err
	}
	findings := []finding.Finding{}
	for _, s := range all {
		findings = append(findings, check.Run(s)...)
	}
	errors := 0
	findings, errors = f.choose(findings)
	if err := a.printFindings(b, all, findings, f.format, f.asked()); err != nil {
		return err
	}
	switch {
	case errors > 0 && p == nil:
		a.screen.Next("fix the errors, export again, and run havvel check%s; or havvel start, and havvel pack fixes what it can", argument(args))
	case errors > 0:
		a.screen.Next("fix the errors, export again, and run havvel check%s", argument(args))
	case len(f.only) > 0:
		a.screen.Next("havvel check%s  (all checks)", argument(args))
	default:
		a.nextTowards(p, "havvel pack")
	}
	return a.faulty(findings)
}

// nextTowards says what comes next on the way to a destination: naming one where there is none.
func (a *console) nextTowards(p *project.Project, next string) {
	switch {
	case p == nil:
		a.screen.Next("havvel start  (writes havvel.toml, and then check knows what each portal wants)")
	case len(p.To) == 0:
		a.screen.Next("havvel start --to %s  (adds a portal; havvel rules list says which there are)", rulebook.Names()[0])
	default:
		a.screen.Next("%s", next)
	}
}

// faulty is the error for findings among which there are errors. Where a program reads what was printed, people read it in one line each on
// standard error.
func (a *console) faulty(findings []finding.Finding) error {
	n := finding.Errors(findings)
	if n == 0 {
		return nil
	}
	said := 0
	for _, f := range findings {
		switch {
		case !a.json && !a.raw || f.Level != finding.Error || f.Accepted != "":
		case said == mostSaid:
			a.screen.Warn("and %d more", n-said)
			return fault.Said
		default:
			words := fmt.Sprintf("%s (%s)", f.Message, f.ID)
			if f.File != "" {
				words = spot(f) + ": " + words
			}
			if f.Destination != "" {
				words = f.Destination + ": " + words
			}
			a.screen.Warn("%s", inwords.Clean(words))
			said++
		}
	}
	return fault.Said
}

// mostSaid is how many errors are said on standard error beside what programs read.
const mostSaid = 5

// asked counts the checks that are asked for.
func (f *checkFlags) asked() int {
	n := 0
	for _, id := range checkIDs() {
		if f.asks(id) {
			n++
		}
	}
	return n
}

func (f *checkFlags) asks(check string) bool {
	return len(f.only) == 0 || slices.ContainsFunc(f.only, func(id string) bool { return matches(check, id) })
}

// choose keeps the findings that are asked for, and counts the errors among them.
func (f *checkFlags) choose(findings []finding.Finding) (kept []finding.Finding, errors int) {
	kept = []finding.Finding{}
	for _, x := range findings {
		if f.asks(x.ID) && slices.Index(levels, string(x.Level)) >= slices.Index(levels, f.level) {
			kept = append(kept, x)
		}
	}
	return kept, finding.Errors(kept)
}

func (a *console) printFindings(b *export.Build, subjects []check.Subject, findings []finding.Finding, format string, asked int) error {
	a.answer(checkJSON{findings})
	switch {
	case a.raw && format == "sarif":
		return a.screen.JSON(sarif(b, check.Catalogue(), findings))
	case a.raw:
		var destinations []string
		for _, s := range subjects {
			destinations = append(destinations, s.Destination)
		}
		return writeXML(a.out, junit("havvel check", destinations, check.Catalogue(), findings))
	}
	a.showFindings(b, subjects, findings, asked)
	return nil
}

// explain prints what a check looks for.
func (a *console) explain(id string) error {
	for _, c := range slices.Concat(check.Catalogue(), trial.Kinds(), proof.Kinds()) {
		if c.ID != id {
			continue
		}
		a.answer(map[string]string{"id": c.ID, "level": string(c.Level), "title": c.Title, "text": c.Text, "before": c.Before, "after": c.After})
		s := a.screen
		s.Line("%s  %s", s.In(term.Strong, c.ID), s.In(term.Quiet, string(c.Level)))
		s.Line("%s", c.Title)
		s.Line("")
		s.Paragraph(term.Plain, "  ", "  ", c.Text)
		s.Line("")
		s.Paragraph(term.Plain, "  before: ", "          ", c.Before)
		s.Paragraph(term.Plain, "  after:  ", "          ", c.After)
		return nil
	}
	return unknownCheck("--explain", id)
}

// showFindings prints findings by what the developer does about them.
func (a *console) showFindings(b *export.Build, subjects []check.Subject, findings []finding.Finding, asked int) {
	s := a.screen
	var portals []string
	for _, subject := range subjects {
		if subject.Rules != nil {
			portals = append(portals, subject.Rules.Name)
		}
	}
	whom := ""
	if len(portals) > 0 {
		whom = "for " + inwords.List(portals) + ", "
	}
	s.Line("%s  %s", s.In(term.Strong, b.Path), s.In(term.Quiet,
		fmt.Sprintf("%s%s, %s", whom, inwords.Files(len(b.Files)), checksWords(asked))))
	groups := []struct {
		title string
		tone  term.Tone
		has   func(finding.Finding) bool
	}{
		{"Errors", term.Bad, func(f finding.Finding) bool { return f.Level == finding.Error && f.Accepted == "" }},
		{"Warnings", term.Careful, func(f finding.Finding) bool { return f.Level == finding.Warning && f.Accepted == "" }},
		{"Fixed automatically by havvel pack", term.Good, func(f finding.Finding) bool { return f.FixedBy != "" && f.Accepted == "" }},
		{"Notes", term.Plain, func(f finding.Finding) bool { return f.Level == finding.Note && f.FixedBy == "" && f.Accepted == "" }},
		{"Accepted in havvel.toml", term.Quiet, func(f finding.Finding) bool { return f.Accepted != "" }},
	}
	for _, g := range groups {
		a.showGroup(g.title, g.tone, findings, g.has, len(subjects) > 1)
	}
	s.Line("")
	errors := len(distinct(findings, groups[0].has))
	switch {
	case errors > 0 && len(portals) > 0:
		s.Line("%s", s.In(term.Bad, fmt.Sprintf("%d %s: %s", errors, inwords.Of(errors, "error", "errors"), blocked(subjects, findings))))
	case errors > 0:
		s.Line("%s", s.In(term.Bad, fmt.Sprintf("%d %s: a host would not show this build", errors, inwords.Of(errors, "error", "errors"))))
	case asked < len(check.Catalogue()):
		s.Line("%s; only %s ran", s.In(term.Good, "no errors in these"), checksWords(asked))
	default:
		s.Line("%s", a.noErrors(b))
	}
}

// noErrors says that nothing was found, and how many scripts could not be looked through.
func (a *console) noErrors(b *export.Build) string {
	s := a.screen
	if n := len(b.Unparsed()); n > 0 {
		return s.In(
			term.Good,
			"no errors",
		) + " in what could be read; " + inwords.Of(
			n,
			"1 script can't be read in full",
			fmt.Sprintf("%d scripts can't be read in full", n),
		)
	}
	return s.In(term.Good, "no errors")
}

// checksWords says how many checks were asked for.
func checksWords(asked int) string {
	if all := len(check.Catalogue()); asked < all {
		return fmt.Sprintf("%d of %d checks", asked, all)
	}
	return fmt.Sprintf("%d checks", asked)
}

// blocked names the portals that would not take the build.
func blocked(subjects []check.Subject, findings []finding.Finding) string {
	var names []string
	for _, s := range subjects {
		if slices.ContainsFunc(findings, func(f finding.Finding) bool {
			return f.Destination == s.Destination && f.Level == finding.Error && f.Accepted == ""
		}) {
			names = append(names, s.Rules.Name)
		}
	}
	return inwords.List(names) + " would not show this build, and havvel won't send it"
}

// most is how many places are shown of one check.
const most = 10

func (a *console) showGroup(title string, tone term.Tone, findings []finding.Finding, has func(finding.Finding) bool, several bool) {
	s := a.screen
	mine := distinct(findings, has)
	if len(mine) == 0 {
		return
	}
	s.Line("")
	s.Line("%s", s.In(tone, title))
	shown := map[string]int{}
	for _, alike := range bundles(mine) {
		first := alike[0]
		room := max(0, most-shown[first.ID])
		shown[first.ID] += len(alike)
		if room == 0 {
			continue
		}
		s.Line("")
		alike = alike[:min(room, len(alike))]
		for i, f := range alike {
			where := s.In(term.Strong, spot(f))
			if several && f.Destination != "" && !everywhere(f, findings) {
				where += "  for " + f.Destination
			}
			if i == 0 {
				where += "  " + s.In(term.Quiet, f.ID)
			}
			s.Line("  %s", where)
			if i == len(alike)-1 || alike[i+1].Message != f.Message {
				s.Paragraph(term.Plain, "    ", "    ", inwords.Clean(f.Message))
			}
		}
		if first.Accepted != "" {
			s.Paragraph(term.Plain, "    → ", "      ", "accepted: "+first.Accepted)
		} else {
			s.Paragraph(term.Plain, "    → ", "      ", inwords.Clean(first.Fix))
		}
	}
	for _, id := range slices.Sorted(maps.Keys(shown)) {
		if n := shown[id] - most; n > 0 {
			s.Line("")
			s.Line("  %s", s.In(term.Quiet, fmt.Sprintf("and %d more of %s", n, id)))
		}
	}
}

// bundles puts findings together that are fixed alike, and among them those that say the same of several places.
func bundles(findings []finding.Finding) [][]finding.Finding {
	type cure struct{ id, fix, accepted string }
	var list [][]finding.Finding
	at, turn := map[cure]int{}, map[string]int{}
	for _, f := range findings {
		key := cure{f.ID, f.Fix, f.Accepted}
		i, ok := at[key]
		if !ok {
			i = len(list)
			at[key] = i
			list = append(list, nil)
		}
		list[i] = append(list[i], f)
		if _, ok := turn[f.Message]; !ok {
			turn[f.Message] = len(turn)
		}
	}
	for _, alike := range list {
		slices.SortStableFunc(alike, func(a, b finding.Finding) int { return cmp.Compare(turn[a.Message], turn[b.Message]) })
	}
	return list
}

// distinct lists the findings of a group, those that hold for several destinations once.
func distinct(findings []finding.Finding, has func(finding.Finding) bool) []finding.Finding {
	type place struct {
		id, file, message string
		line, column      int
	}
	seen := map[place]bool{}
	var list []finding.Finding
	for _, f := range findings {
		if p := (place{f.ID, f.File, f.Message, f.Line, f.Column}); has(f) && !seen[p] {
			seen[p] = true
			list = append(list, f)
		}
	}
	return list
}

// everywhere reports whether a finding holds for more than one destination, so that naming one misleads.
func everywhere(f finding.Finding, findings []finding.Finding) bool {
	return slices.ContainsFunc(findings, func(o finding.Finding) bool {
		return o.Destination != f.Destination && o.ID == f.ID && o.File == f.File && o.Line == f.Line
	})
}

// spot says where a finding is, as editors understand it.
func spot(f finding.Finding) string {
	switch {
	case f.File == "":
		return "the whole build"
	case f.Line == 0:
		return inwords.Clean(f.File)
	case f.Column == 0:
		return fmt.Sprintf("%s:%d", inwords.Clean(f.File), f.Line)
	}
	return fmt.Sprintf("%s:%d:%d", inwords.Clean(f.File), f.Line, f.Column)
}
