package cli

import (
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"havvel/internal/app"
	"havvel/internal/atomicfile"
	"havvel/internal/check"
	"havvel/internal/cli/term"
	"havvel/internal/deliver"
	"havvel/internal/fault"
	"havvel/internal/finding"
	"havvel/internal/inwords"
	"havvel/internal/listing"
	"havvel/internal/logbook"
	"havvel/internal/pictures"
	"havvel/internal/project"
)

type listingFlags struct {
	show       string
	page, diff bool
}

func (a *console) listing() *cobra.Command {
	var f listingFlags
	c := a.new(command{
		use:   "listing",
		short: "Check and render the page's texts",
		long: "Listing renders the game's page for each destination from what havvel.toml says, and lists what is missing or would be\n" +
			"refused. --show prints every field as it would be sent; --page writes a page that looks as the portal would arrange it, on a\n" +
			"desktop and on a phone; --diff shows what has changed since the last upload. It ends with 1 when a portal would refuse something.",
		example: "  havvel listing\n  havvel listing --show brackwater",
		args:    cobra.NoArgs,
		run:     func(ctx context.Context, _ []string) error { return a.runListing(ctx, f) },
	})
	c.Flags().StringVar(&f.show, "show", "", "print all fields for this `destination`")
	c.Flags().BoolVar(&f.page, "page", false, "write a preview of each page")
	c.Flags().BoolVar(&f.diff, "diff", false, "show what has changed since the last upload")
	c.RegisterFlagCompletionFunc("show", a.destinationNames)
	a.withTo(c)
	return c
}

// A leaf is the page of one destination, as the command shows it.
type leaf struct {
	d        *project.Destination
	contents *deliver.Contents
	order    *pictures.Order
	findings []finding.Finding
}

func (a *console) runListing(ctx context.Context, f listingFlags) error {
	if f.show != "" {
		a.to = []string{f.show}
	}
	p, leaves, err := a.leaves(ctx)
	if err != nil {
		return err
	}
	courier := a.courier(p)
	var failed error
	for _, l := range leaves {
		if finding.Errors(l.findings) > 0 {
			failed = fault.Said
		}
	}
	a.answer(listingDocument(leaves))
	switch {
	case f.page:
		return errors.Join(a.previews(p, leaves), failed)
	case f.diff:
		for _, l := range leaves {
			a.showDiff(courier.LastPage(l.d), l)
		}
		return nil
	case f.show != "":
		a.showLeaf(leaves[0])
		return failed
	}
	a.showLeaves(courier, p, leaves)
	return failed
}

// leaves renders the pages of all destinations that have one; there must be one.
func (a *console) leaves(ctx context.Context) (*project.Project, []*leaf, error) {
	p, destinations, err := a.destinations()
	if err != nil {
		return nil, nil, err
	}
	var with []*project.Destination
	for _, d := range destinations {
		if len(d.Rules.Fields)+len(d.Rules.Pictures) > 0 {
			with = append(with, d)
		}
	}
	if len(with) == 0 {
		return nil, nil, refused(
			"none of these destinations has a page to fill in: %s",
			portalNames(p),
		).Then("a portal has one where its rulebook lists fields or pictures (docs/formats/rulebook.md)")
	}
	contents, orders, err := app.Pages(ctx, p, with, p.Game.Version, a.screen.Progress())
	if err != nil {
		return nil, nil, err
	}
	sent, _, _ := logbook.Open(p.Folder).Deliveries() // one that can't be read hinders sending, not looking
	var list []*leaf
	for i, d := range with {
		l := &leaf{d: d, contents: contents[d.Name], order: orders[i]}
		l.findings = check.RunPage(
			check.Subject{Destination: d.Name, Rules: d.Rules, Accepts: app.Accepts(p), Page: app.PageFacts(p, d, l.contents, l.order, sent)},
		)
		list = append(list, l)
	}
	return p, list, nil
}

// filled counts fields that hold something, and declarations that are made.
func (l *leaf) filled() (fields, declared int) {
	for _, f := range l.contents.Fields {
		if f.Declared {
			fields++
		}
	}
	return fields, len(l.contents.Declared())
}

func (a *console) showLeaves(courier *deliver.Courier, p *project.Project, leaves []*leaf) {
	s := a.screen
	s.Line("%s  %s", s.In(term.Strong, term.Clean(p.Game.Title)), s.In(term.Quiet, "version "+p.Game.Version))
	var rows [][]string
	var all []finding.Finding
	for _, l := range leaves {
		fields, declared := l.filled()
		last := courier.LastPage(l.d)
		state := "never"
		if !last.At.IsZero() {
			state = when(last.At)
			if n := len(last.Changed(l.contents)); n > 0 {
				state += fmt.Sprintf(", %d changed since", n)
			}
		}
		rows = append(rows, []string{
			l.d.Name, fmt.Sprintf("%d of %d", fields, len(l.contents.Fields)), fmt.Sprint(len(l.order.Cuts)),
			fmt.Sprint(len(l.contents.Leaderboards)), declarations(declared, len(l.contents.Declarations)), state,
		})
		all = append(all, l.findings...)
	}
	s.Table([]string{"destination", "fields", "pictures", "leaderboards", "declarations", "sent"}, rows, 1, 2, 3, 4)
	a.showPageFindings(all, len(leaves) > 1)
	if a.nextOfPage(leaves, all) {
		return
	}
	s.Next("havvel listing --show %s  (every field as it goes there), or --page  (how it will look)", leaves[0].d.Name)
}

// nextOfPage says what to do about a page that is not complete; false when it is.
func (a *console) nextOfPage(leaves []*leaf, all []finding.Finding) bool {
	switch {
	case finding.Errors(all) > 0:
		a.screen.Next("fix the errors in havvel.toml, and run havvel listing again")
	case len(app.Lacks(leaves[0].contents, leaves[0].order)) > 0:
		a.screen.Next("havvel listing --show %s  (what each field can hold)", leaves[0].d.Name)
	default:
		return false
	}
	return true
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
func (a *console) showLeaf(l *leaf) {
	s := a.screen
	s.Line("%s", s.In(term.Strong, "The page on "+l.d.Rules.Name))
	for i, f := range l.contents.Fields {
		rule := l.d.Rules.Fields[i]
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
				s.Paragraph(term.Plain, "  ", "  ", term.Clean(line))
			}
		}
		if len(rule.OneOf) > 0 {
			s.Paragraph(term.Quiet, "  ", "  ", "one of: "+strings.Join(rule.OneOf, ", "))
		}
	}
	a.showRest(l)
	a.showPageFindings(l.findings, false)
	s.Next("havvel listing --page --to %s  (how it will look)", l.d.Name)
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
func (a *console) showRest(l *leaf) {
	s := a.screen
	if len(l.contents.Leaderboards) > 0 {
		s.Line("")
		s.Line("%s  %s", s.In(term.Strong, "leaderboards"), s.In(term.Quiet, "from [[statistic]]"))
		for _, b := range l.contents.Leaderboards {
			words := fmt.Sprintf("%s: %s, keeps the %s value", b.Name, b.Label, b.Keeps)
			if b.Unit != "" {
				words += ", in " + b.Unit
			}
			if b.Hidden {
				words += ", hidden"
			}
			s.Line("  %s", term.Clean(words))
		}
	}
	if len(l.contents.Declarations) > 0 {
		s.Line("")
		s.Line("%s  %s", s.In(term.Strong, "declarations"), s.In(term.Quiet, "from [declarations]"))
		for _, d := range l.contents.Declarations {
			state := s.In(term.Good, "declared")
			if !d.Declared {
				state = s.In(term.Careful, "not declared")
			}
			s.Line("  %s: %s  (%s)", d.Name, state, term.Clean(d.Says))
		}
	}
	if len(l.order.Cuts) > 0 {
		s.Line("")
		s.Line("%s  %s", s.In(term.Strong, "pictures"), s.In(term.Quiet, "from [[picture]]"))
		a.showCuts(l.order.Cuts)
	}
}

// showDiff prints what has changed since the last upload.
func (a *console) showDiff(last *deliver.SentPage, l *leaf) {
	s := a.screen
	changed := last.Changed(l.contents)
	switch {
	case last.At.IsZero():
		s.Line("%s  %s", s.In(term.Strong, l.d.Rules.Name), "nothing was sent to its page yet")
		return
	case len(changed) == 0:
		s.Line("%s  %s", s.In(term.Strong, l.d.Rules.Name), "as it was sent on "+when(last.At))
		return
	}
	s.Line("%s  %s", s.In(term.Strong, l.d.Rules.Name), s.In(term.Quiet, "since "+when(last.At)+": "+strings.Join(changed, ", ")))
	for _, f := range l.contents.Fields {
		before := last.Fields[f.Name]
		if before == f.Text {
			continue
		}
		s.Line("  %s", f.Name)
		for _, line := range listing.Diff(before, f.Text) {
			tone := map[byte]term.Tone{'-': term.Bad, '+': term.Good}[line[0]]
			s.Line("    %s", s.In(tone, term.Clean(line)))
		}
	}
}

type listingJSON struct {
	Pages []pageJSON `json:"pages"`
}

type pageJSON struct {
	Destination  string                `json:"destination"`
	Fields       []fieldJSON           `json:"fields"`
	Leaderboards []listing.Leaderboard `json:"leaderboards"`
	Declarations []statedJSON          `json:"declarations"`
	Pictures     []*pictures.Cut       `json:"pictures"`
	Lacks        []string              `json:"lacks"`
	Findings     []finding.Finding     `json:"findings"`
}

type fieldJSON struct {
	Name  string   `json:"name"`
	From  []string `json:"from"`
	Form  string   `json:"form"`
	Text  string   `json:"text"`
	Words []string `json:"words"`
	Count int      `json:"count"`
	Limit int      `json:"limit"`
}

type statedJSON struct {
	Name     string `json:"name"`
	Says     string `json:"says"`
	Declared bool   `json:"declared"`
}

func listingDocument(leaves []*leaf) listingJSON {
	doc := listingJSON{Pages: []pageJSON{}}
	for _, l := range leaves {
		page := pageJSON{
			Destination:  l.d.Name,
			Fields:       []fieldJSON{},
			Leaderboards: append([]listing.Leaderboard{}, l.contents.Leaderboards...),
			Declarations: []statedJSON{},
			Pictures:     append([]*pictures.Cut{}, l.order.Cuts...),
			Lacks:        app.Lacks(l.contents, l.order),
			Findings:     append([]finding.Finding{}, l.findings...),
		}
		for _, f := range l.contents.Fields {
			page.Fields = append(page.Fields, fieldJSON{f.Name, f.From, f.Form, f.Text, f.Words, f.Count, f.Limit})
		}
		for _, d := range l.contents.Declarations {
			page.Declarations = append(page.Declarations, statedJSON(d))
		}
		doc.Pages = append(doc.Pages, page)
	}
	return doc
}

// previews writes a page for each destination that looks as the portal would arrange it.
func (a *console) previews(p *project.Project, leaves []*leaf) error {
	for _, l := range leaves {
		data, err := listing.Preview(l.contents.Page, p.Game.Title, l.shots())
		if err != nil {
			return err
		}
		path := filepath.Join(p.Folder, ".havvel", "page", l.d.Name+".html")
		if err := atomicfile.Bytes(path, data); err != nil {
			return err
		}
		a.screen.Line("%s  %s", a.screen.In(term.Strong, "the page on "+l.d.Rules.Name), inwords.Near(path))
	}
	a.screen.Next("open the files in a browser; havvel send fills in the pages")
	return nil
}

func (l *leaf) shots() []listing.Shot {
	var list []listing.Shot
	for _, c := range l.order.Cuts {
		list = append(list, listing.Shot{Role: c.Role, Path: c.Path, Type: c.Type, About: c.About})
	}
	return list
}
