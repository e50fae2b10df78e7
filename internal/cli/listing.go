package cli

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"havvel/internal/app"
	"havvel/internal/cli/term"
	"havvel/internal/finding"
	"havvel/internal/inwords"
	"havvel/internal/listing"
	"havvel/internal/project"
)

type listingFlags struct {
	show       string
	page, diff bool
	languages  bool
}

func (a *console) listing() *cobra.Command {
	var f listingFlags
	c := a.new(command{
		use:   "listing",
		short: "Check and render the page's texts",
		long: "Listing renders the game's page for each destination from what havvel.toml says, and lists what is missing or would be\n" +
			"refused. --show prints every field as it would be sent; --page writes a page that looks as the portal would arrange it, on a\n" +
			"desktop and on a phone; --diff shows what has changed since the last upload; --check-languages compares the texts in other\n" +
			"languages with yours. It ends with 1 when a portal would refuse something.",
		example: "  havvel listing\n  havvel listing --show brackwater",
		args:    cobra.NoArgs,
		run:     func(ctx context.Context, _ []string) error { return a.runListing(ctx, f) },
	})
	c.Flags().StringVar(&f.show, "show", "", "print all fields for this `destination`")
	c.Flags().BoolVar(&f.page, "page", false, "write a preview of each page")
	c.Flags().BoolVar(&f.diff, "diff", false, "show what has changed since the last upload")
	c.Flags().BoolVar(&f.languages, "check-languages", false, "compare the texts in other languages with yours")
	c.RegisterFlagCompletionFunc("show", a.destinationNames)
	a.withTo(c)
	return c
}

func (a *console) runListing(ctx context.Context, f listingFlags) error {
	if f.show != "" {
		a.to = []string{f.show}
	}
	k, err := a.desk()
	if err != nil {
		return err
	}
	leaves, err := k.Leaves(ctx)
	if err != nil {
		return err
	}
	if f.languages {
		l := leaves.Languages()
		a.answer(l)
		a.showLanguages(l)
		return nil
	}
	a.answer(leaves)
	switch {
	case f.page:
		return errors.Join(a.previews(k, leaves), leaves.Refused())
	case f.diff:
		for _, l := range leaves.List {
			a.showDiff(l)
		}
		return nil
	case f.show != "":
		a.showLeaf(leaves, leaves.List[0])
	default:
		a.showLeaves(k.Project, leaves)
	}
	return leaves.Refused()
}

func (a *console) showLeaves(p *project.Project, leaves *app.Leaves) {
	s := a.screen
	s.Line("%s  %s", s.In(term.Strong, inwords.Clean(p.Game.Title)), s.In(term.Quiet, "version "+p.Game.Version))
	var rows [][]string
	for _, l := range leaves.List {
		fields, declared := l.Filled()
		last := l.Last
		state := "never"
		if !last.At.IsZero() {
			state = when(last.At)
			if n := len(last.Changed(l.Contents)); n > 0 {
				state += fmt.Sprintf(", %d changed since", n)
			}
		}
		rows = append(rows, []string{
			l.At.Name, fmt.Sprintf("%d of %d", fields, len(l.Contents.Fields)), fmt.Sprint(len(l.Order.Cuts)),
			fmt.Sprint(len(l.Contents.Leaderboards)), declarations(declared, len(l.Contents.Declarations)), state,
		})
	}
	s.Table([]string{"destination", "fields", "pictures", "leaderboards", "declarations", "sent"}, rows, 1, 2, 3, 4)
	a.showPageFindings(leaves.Findings(), len(leaves.List) > 1)
	if a.next(leaves.Next); leaves.Next == "" {
		s.Next("havvel listing --show %s  (every field as it goes there), or --page  (how it will look)", leaves.List[0].At.Name)
	}
}

// showPageFindings prints what is to be done about pages.
func (a *console) showPageFindings(findings []finding.Finding, several bool) {
	a.showGroup("Errors", term.Bad, findings, func(f finding.Finding) bool { return f.Level == finding.Error && f.Accepted == "" }, several)
	a.showGroup(
		"Warnings",
		term.Careful,
		findings,
		func(f finding.Finding) bool { return f.Level == finding.Warning && f.Accepted == "" },
		several,
	)
	a.showGroup("Notes", term.Plain, findings, func(f finding.Finding) bool { return f.Level == finding.Note && f.Accepted == "" }, several)
	a.screen.Line("")
}

// showLeaf prints every field as it would be sent.
func (a *console) showLeaf(leaves *app.Leaves, l *app.Leaf) {
	s := a.screen
	s.Line("%s", s.In(term.Strong, "The page on "+l.At.Rules.Name))
	for i, f := range l.Contents.Fields {
		rule := l.At.Rules.Fields[i]
		facts := "from " + strings.Join(keysOf(f.From), " and ")
		if f.Form != "plain" {
			facts = f.Form + ", " + facts
		}
		s.Line("")
		s.Line("%s  %s", s.In(term.Strong, f.Name), s.In(term.Quiet, lengthOf(f)+facts))
		switch {
		case f.Count == 0 && f.Declared:
			s.Line("  (nothing, as you say)")
		case f.Count == 0 && rule.Required:
			s.Line("  %s", s.In(term.Careful, "missing"))
		case f.Count == 0:
			s.Line("  %s", s.In(term.Quiet, "left out"))
		}
		if f.Count > 0 {
			for line := range strings.SplitSeq(f.Text, "\n") {
				s.Paragraph(term.Plain, "  ", "  ", inwords.Clean(line))
			}
		}
		if len(rule.OneOf) > 0 {
			s.Paragraph(term.Quiet, "  ", "  ", "one of: "+strings.Join(rule.OneOf, ", "))
		}
	}
	a.showRest(l)
	missing := func(f finding.Finding) bool { return f.ID == string(listing.Missing) } // which stands above, field by field
	a.showPageFindings(slices.DeleteFunc(slices.Clone(l.Findings), missing), false)
	if a.next(leaves.Next); leaves.Next == "" {
		s.Next("havvel listing --page --to %s  (how it will look)", l.At.Name)
	}
}

func declarations(declared, asked int) string {
	if asked == 0 {
		return "none asked"
	}
	return fmt.Sprintf("%d of %d", declared, asked)
}

// lengthOf says how long a field is, and how long it can be.
func lengthOf(f *listing.Field) string {
	switch {
	case f.Count == 0 && f.Limit > 0 && f.Words == nil:
		return fmt.Sprintf("up to %d characters, ", f.Limit)
	case f.Count == 0:
		return ""
	case f.Words != nil && f.Limit > 0:
		return fmt.Sprintf("%d of %d, ", f.Count, f.Limit)
	case f.Limit > 0:
		return fmt.Sprintf("%d of %d characters, ", f.Count, f.Limit)
	}
	return ""
}

func keysOf(from []string) []string {
	var list []string
	for _, f := range from {
		list = append(list, listing.Key(f))
	}
	return list
}

// showRest prints leaderboards, declarations and pictures.
func (a *console) showRest(l *app.Leaf) {
	s := a.screen
	if len(l.Contents.Leaderboards) > 0 {
		s.Line("")
		s.Line("%s  %s", s.In(term.Strong, "leaderboards"), s.In(term.Quiet, "from [[statistic]]"))
		for _, b := range l.Contents.Leaderboards {
			words := fmt.Sprintf("%s: %s, keeps the %s value", b.Name, b.Label, b.Keeps)
			if b.Unit != "" {
				words += ", in " + b.Unit
			}
			if b.Hidden {
				words += ", hidden"
			}
			s.Line("  %s", inwords.Clean(words))
		}
	}
	if len(l.Contents.Declarations) > 0 {
		s.Line("")
		s.Line("%s  %s", s.In(term.Strong, "declarations"), s.In(term.Quiet, "from [declarations]"))
		for _, d := range l.Contents.Declarations {
			state := s.In(term.Good, "declared")
			if !d.Declared {
				state = s.In(term.Careful, "not declared")
			}
			s.Line("  %s: %s  (%s)", d.Name, state, inwords.Clean(d.Says))
		}
	}
	if len(l.Order.Cuts) > 0 {
		s.Line("")
		s.Line("%s  %s", s.In(term.Strong, "pictures"), s.In(term.Quiet, "from [[picture]]"))
		a.showCuts(l.Order.Cuts)
	}
}

// showDiff prints what has changed since the last upload.
func (a *console) showDiff(l *app.Leaf) {
	s, last := a.screen, l.Last
	changed := last.Changed(l.Contents)
	switch {
	case last.At.IsZero():
		s.Line("%s  %s", s.In(term.Strong, l.At.Rules.Name), "nothing was sent to its page yet")
		return
	case len(changed) == 0:
		s.Line("%s  %s", s.In(term.Strong, l.At.Rules.Name), "as it was sent on "+when(last.At))
		return
	}
	s.Line("%s  %s", s.In(term.Strong, l.At.Rules.Name), s.In(term.Quiet, "since "+when(last.At)+": "+strings.Join(changed, ", ")))
	for _, f := range l.Contents.Fields {
		before := last.Fields[f.Name]
		if before == f.Text {
			continue
		}
		s.Line("  %s", f.Name)
		for _, line := range listing.Diff(before, f.Text) {
			tone := map[byte]term.Tone{'-': term.Bad, '+': term.Good}[line[0]]
			s.Line("    %s", s.In(tone, inwords.Clean(line)))
		}
	}
}

// previews writes a page for each destination that looks as the portal would arrange it.
func (a *console) previews(k *app.Desk, leaves *app.Leaves) error {
	for _, l := range leaves.List {
		paths, err := k.Preview(l)
		if err != nil {
			return err
		}
		for i, path := range paths {
			name := "the page on " + l.At.Rules.Name
			if i > 0 {
				name += ", in " + l.Contents.Others[i-1].Language
			}
			a.screen.Line("%s  %s", a.screen.In(term.Strong, name), inwords.Near(path))
		}
	}
	a.screen.Next("open the files in a browser; havvel send fills in the pages")
	return nil
}

// showLanguages prints how texts in other languages differ from the page's own.
func (a *console) showLanguages(l *app.Languages) {
	s := a.screen
	if len(l.Texts) == 0 {
		s.Line("No text is in another language than the page's own.")
		s.Next("write [listing.de], or files such as description.de.md beside description.md")
		return
	}
	var rows [][]string
	for _, c := range l.Texts {
		differs := "alike"
		if len(c.Differs) > 0 {
			differs = strings.Join(c.Differs, "; ")
		}
		rows = append(rows, []string{c.Destination, c.Language, c.Field, fmt.Sprint(c.Letters), fmt.Sprint(c.Own), differs})
	}
	s.Table([]string{"destination", "language", "field", "letters", "yours", "compared with yours"}, rows, 3, 4)
	a.showPageFindings(l.Findings, true)
}
