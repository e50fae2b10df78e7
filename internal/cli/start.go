package cli

import (
	"cmp"
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"havvel/internal/app"
	"havvel/internal/cli/term"
	"havvel/internal/export"
	"havvel/internal/inwords"
	"havvel/internal/project"
	"havvel/internal/rulebook"
	"havvel/internal/settings"
)

func (a *console) start() *cobra.Command {
	var f app.Beginning
	c := a.new(command{
		use:   "start [EXPORT]",
		short: "Write a havvel.toml for the export in this folder, or add a destination to it",
		long: "Start finds the export in this folder, or takes the one that you name, and writes a havvel.toml beside it: what the game\n" +
			"is called, where its export is, and where it goes. Everything can be changed in the file later. Where there is one already,\n" +
			"--to adds a destination to it.",
		example: "  havvel start export/web --version 0.4.0\n  havvel start --to brackwater",
		args:    cobra.MaximumNArgs(1),
		run:     func(ctx context.Context, args []string) error { return a.runStart(ctx, args, f) },
	})
	c.Flags().StringVar(&f.Title, "title", "", "the game's `title` (from the entry page)")
	c.Flags().StringVar(&f.Short, "short", "", "its `name` in addresses (from the title)")
	c.Flags().StringVar(&f.Studio, "studio", "", "`who` makes it")
	c.Flags().StringVar(&f.Version, "version", "0.1.0", "the `version` that the next send uploads")
	c.Flags().
		StringArrayVar(&a.to, "to", nil, "where it goes: a `rulebook` ("+strings.Join(rulebook.Names(),
			", ")+", or a file ending in .toml), the address of a site, or a folder; may be repeated")
	c.Flags().StringVar(&f.Address, "address", "", "`where` the portal's interface is (from the rulebook)")
	c.Flags().StringToStringVar(&f.Values, "value", nil, "a `NAME=TEXT` that a rulebook asks for, such as a release track; may be repeated")
	c.Flags().StringVar(&f.Tagline, "tagline", "", "one `sentence` that makes somebody want to play")
	c.Flags().StringVar(&f.Category, "category", "", "its `category`")
	a.withDryRun(c, "print the file, and write nothing")
	return c
}

func (a *console) runStart(ctx context.Context, args []string, f app.Beginning) error {
	f.Rulebooks = a.to
	if app.Exists(project.Name) {
		return a.addTo(ctx, args, f)
	}
	folder, err := app.FindExport(args)
	if err != nil {
		return err
	}
	b, err := export.Read(ctx, folder)
	if err != nil {
		return err
	}
	defer b.Close()
	if err := a.askFirst(ctx, b, &f); err != nil {
		return err
	}
	p, err := app.Begin(b, folder, f)
	if err != nil {
		return wrong("havvel start", "%w", err)
	}
	if err := a.askMore(ctx, p); err != nil {
		return err
	}
	begun, err := app.WriteDown(p, a.dryRun)
	if err != nil {
		return err
	}
	s := a.screen
	a.answer(begun)
	if a.dryRun {
		s.Line("%s", strings.TrimSpace(begun.Text))
		return nil
	}
	about := fmt.Sprintf("for %q, version %s", p.Game.Title, p.Game.Version)
	s.Line("%s  %s", s.In(term.Strong, "wrote "+project.Name), s.In(term.Quiet, about))
	s.Line("  export: %s, %s in %s", p.Game.Export, settings.Size(b.Bytes), inwords.Files(len(b.Parts())))
	for _, name := range begun.Destinations {
		s.Line("  goes to: %s", name)
	}
	for _, name := range begun.Destinations {
		for _, v := range p.To[name].Asked() {
			if p.To[name].Values[v.Name] == "" && v.Default == "" {
				s.Warn("%s needs %s: %s; write it under [to.%s.values]", name, v.Name, v.Says, name)
			}
		}
	}
	if len(p.To) == 0 {
		s.Line("  goes nowhere yet")
		s.Next("havvel check, and havvel start --to %s  (adds a portal; also %s, or the address of a site)", rulebook.Names()[0],
			strings.Join(rulebook.Names()[1:], ", "))
		return nil
	}
	s.Next("havvel check")
	return nil
}

// addTo adds destinations to the project in this folder.
func (a *console) addTo(ctx context.Context, args []string, f app.Beginning) error {
	p, err := project.Find(".")
	if err != nil {
		return err
	}
	if k := a.asker(); k != nil && len(f.Rulebooks) == 0 {
		if err := a.askWhere(ctx, k, &f); err != nil {
			return err
		}
	}
	if len(f.Rulebooks) == 0 || len(args) > 0 {
		return wrong("havvel start", "there is a %s in this folder already", project.Name).
			Then("havvel start --to NAME adds a destination to it: %s, a rulebook of your own, or the address of a site",
				strings.Join(rulebook.Names(), ", "))
	}
	begun, err := app.Add(p, f, a.dryRun)
	if err != nil {
		return err
	}
	s := a.screen
	a.answer(begun)
	if a.dryRun {
		s.Line("%s", begun.Text)
		return nil
	}
	s.Line("%s", s.In(term.Strong, "added to "+project.Name))
	for line := range strings.SplitSeq(begun.Text, "\n") {
		s.Line("  %s", line)
	}
	now, err := project.Find(".")
	if err != nil {
		return err
	}
	first := begun.Destinations[0]
	if site := now.To[first].SiteAddress(); site != nil && site.Scheme == "file" { // a folder takes no key
		s.Next("havvel check --to %s", first)
		return nil
	}
	s.Next("havvel check --to %s, and havvel keys set %s  (its key)", first, first)
	return nil
}

// askWhere asks where the game goes.
func (a *console) askWhere(ctx context.Context, k *asker, f *app.Beginning) error {
	to := ""
	known := strings.Join(rulebook.Names(), ", ")
	err := k.ask(ctx, fmt.Sprintf("Where does it go: %s, or the address of a site (Enter: later)? ", known), &to)
	if to != "" {
		f.Rulebooks = append(f.Rulebooks, to)
	}
	return err
}

// askFirst asks what a new project is to be, with what the export lets suppose.
func (a *console) askFirst(ctx context.Context, b *export.Build, f *app.Beginning) error {
	k := a.asker()
	if k == nil || a.dryRun {
		return nil
	}
	g := app.GuessFrom(b)
	if f.Title == "" {
		f.Title = g.Title
		if err := k.ask(ctx, fmt.Sprintf("The game's title (Enter: %s): ", cmp.Or(f.Title, "that of this folder")), &f.Title); err != nil {
			return err
		}
	}
	if len(f.Rulebooks) > 0 {
		return nil
	}
	return a.askWhere(ctx, k, f)
}

// askMore asks for the least that portals and their pages need, where somebody sits at a terminal and has not said it by flags.
func (a *console) askMore(ctx context.Context, p *project.Project) error {
	k := a.asker()
	if k == nil || len(p.To) == 0 || a.dryRun {
		return nil
	}
	for _, name := range slices.Sorted(maps.Keys(p.To)) {
		d := p.To[name]
		if d.Rules == nil {
			continue
		}
		for _, v := range d.Asked() {
			if text := d.Values[v.Name]; text == "" {
				if err := k.value(ctx, name, v, &text); err != nil {
					return err
				}
				d.Give(v.Name, text)
			}
		}
	}
	for _, q := range []struct {
		words string
		into  *string
	}{
		{"One sentence that makes somebody want to play (Enter: later): ", &p.Listing.Tagline},
		{"Its category, such as Puzzle (Enter: later): ", &p.Listing.Category},
	} {
		if *q.into != "" {
			continue
		}
		if err := k.ask(ctx, q.words, q.into); err != nil {
			return err
		}
	}
	return nil
}
