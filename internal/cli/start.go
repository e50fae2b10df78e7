package cli

import (
	"bufio"
	"context"
	"fmt"
	"maps"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"github.com/spf13/cobra"
	xterm "golang.org/x/term"

	"havvel/internal/app"
	"havvel/internal/atomicfile"
	"havvel/internal/cli/term"
	"havvel/internal/export"
	"havvel/internal/inwords"
	"havvel/internal/project"
	"havvel/internal/rulebook"
	"havvel/internal/settings"
)

type startFlags struct {
	title, short, studio, version, address, tagline, category string
}

func (a *console) start() *cobra.Command {
	var f startFlags
	c := a.new(command{
		use:   "start [EXPORT]",
		short: "Look at the export in this folder and write a havvel.toml for it",
		long: "Start finds the export in this folder, or takes the one that you name, and writes a havvel.toml beside it: what the game\n" +
			"is called, where its export is, and where it goes. Everything can be changed in the file later.",
		example: "  havvel start\n  havvel start export/web --to brackwater --version 0.4.0",
		args:    cobra.MaximumNArgs(1),
		run:     func(ctx context.Context, args []string) error { return a.runStart(ctx, args, f) },
	})
	c.Flags().StringVar(&f.title, "title", "", "the game's `title` (from the entry page)")
	c.Flags().StringVar(&f.short, "short", "", "its `name` in addresses (from the title)")
	c.Flags().StringVar(&f.studio, "studio", "", "`who` makes it")
	c.Flags().StringVar(&f.version, "version", "0.1.0", "the `version` that the next send uploads")
	c.Flags().
		StringArrayVar(&a.to, "to", nil, "a `rulebook` to go by: "+strings.Join(rulebook.Names(), ", ")+", or a file ending in .toml; may be repeated")
	c.Flags().StringVar(&f.address, "address", "", "`where` the portal's interface is (from the rulebook)")
	c.Flags().StringVar(&f.tagline, "tagline", "", "one `sentence` that makes somebody want to play")
	c.Flags().StringVar(&f.category, "category", "", "its `category`")
	a.withDryRun(c, "print the file, and write nothing")
	return c
}

// startJSON is the project file that start writes.
type startJSON struct {
	File         string   `json:"file"`
	Text         string   `json:"text"`
	Title        string   `json:"title"`
	Short        string   `json:"short"`
	Version      string   `json:"version"`
	Export       string   `json:"export"`
	Destinations []string `json:"destinations"`
}

func (a *console) runStart(ctx context.Context, args []string, f startFlags) error {
	if app.Exists(project.Name) {
		return wrong("havvel start", "there is a %s in this folder already", project.Name).Then("change it with an editor, or move it away first")
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
	p, err := newProject(b, folder, f, a.to)
	if err != nil {
		return err
	}
	if err := a.askForPage(ctx, p); err != nil {
		return err
	}
	text, err := project.Blank(p)
	if err != nil {
		return err
	}
	s := a.screen
	a.answer(
		startJSON{
			project.Name,
			string(text),
			p.Game.Title,
			p.Game.Short,
			p.Game.Version,
			p.Game.Export,
			append([]string{}, slices.Sorted(maps.Keys(p.To))...),
		},
	)
	if a.dryRun {
		s.Line("%s", strings.TrimSpace(string(text)))
		return nil
	}
	if err := atomicfile.Bytes(project.Name, text); err != nil {
		return err
	}
	if _, err := project.Find("."); err != nil { // what was just written must be readable
		os.Remove(project.Name)
		return err
	}
	s.Line(
		"%s  %s",
		s.In(term.Strong, "wrote "+project.Name),
		s.In(term.Quiet, fmt.Sprintf("for %q, version %s", p.Game.Title, p.Game.Version)),
	)
	s.Line("  export: %s, %s in %s", p.Game.Export, settings.Size(b.Bytes), inwords.Files(len(b.Parts())))
	for _, name := range slices.Sorted(maps.Keys(p.To)) {
		s.Line("  goes to: %s", name)
	}
	if len(p.To) == 0 {
		s.Line("  goes nowhere yet: name a destination in %s, by its lines about [to.…]", project.Name)
	}
	s.Next("havvel check")
	return nil
}

// askForPage asks for the least that a portal's page needs, where somebody sits at a terminal and has not said it by flags.
func (a *console) askForPage(ctx context.Context, p *project.Project) error {
	in, ok := a.in.(*os.File)
	if !ok || !xterm.IsTerminal(int(in.Fd())) || len(p.To) == 0 || a.dryRun {
		return nil
	}
	lines := bufio.NewReader(in)
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
		fmt.Fprint(a.err, q.words)
		answer := make(chan string, 1)
		go func() {
			line, _ := lines.ReadString('\n') // at the end of the input nothing was said
			answer <- line
		}()
		select {
		case line := <-answer:
			*q.into = term.Clean(line)
		case <-ctx.Done():
			fmt.Fprintln(a.err)
			return ctx.Err()
		}
	}
	return nil
}

func newProject(b *export.Build, folder string, f startFlags, rulebooks []string) (*project.Project, error) {
	g := project.Game{Title: f.title, Short: f.short, Studio: f.studio, Version: f.version, Export: filepath.ToSlash(folder)}
	if g.Title == "" && b.Entry != nil {
		g.Title = term.Clean(b.Entry.Page.Title)
	}
	if g.Title == "" {
		if here, err := os.Getwd(); err == nil {
			g.Title = filepath.Base(here)
		}
	}
	if g.Short == "" {
		g.Short = project.ShortFrom(g.Title)
	}
	p := &project.Project{Game: g, Listing: project.Listing{Tagline: f.tagline, Category: f.category}, To: map[string]*project.Destination{}}
	for _, r := range rulebooks {
		rules, err := rulebook.Find(r, ".")
		if err != nil {
			return nil, wrong("havvel start", "--to: %w", err)
		}
		name := strings.TrimSuffix(path.Base(filepath.ToSlash(r)), ".toml")
		d := &project.Destination{Rulebook: r, Address: f.address}
		if rules.Key.Variable != "" {
			d.Key = "env:" + rules.Key.Variable
		}
		p.To[name] = d
	}
	return p, nil
}
