// Package cli is the interface of havvel: one file a command. Flags come in, a core package is called,
// words go out. Nothing is computed here.
package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"os/signal"
	"path/filepath"
	"runtime/debug"
	"slices"
	"strings"
	"syscall"
	"time"

	"github.com/spf13/cobra"

	"havvel/internal/check"
	"havvel/internal/cli/term"
	"havvel/internal/deliver"
	"havvel/internal/export"
	"havvel/internal/finding"
	"havvel/internal/logbook"
	"havvel/internal/pictures"
	"havvel/internal/project"
	"havvel/internal/rulebook"
	"havvel/internal/settings"
	"havvel/internal/trial"
)

// version is stamped in by the linker.
var version = "built from source"

func init() {
	cobra.EnableCommandSorting = false // commands are in the order of the work
}

// Main runs havvel with these arguments and returns its exit code.
func Main(args []string, in io.Reader, out, errOut io.Writer) int {
	debug.SetMemoryLimit(mostMemory)
	debug.SetGCPercent(200) // the heap is small; the limit on memory holds all the same
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	context.AfterFunc(ctx, stop) // a second Ctrl-C ends havvel at once
	a := &app{in: in, out: out, err: errOut, screen: term.New(out, errOut)}
	root := a.root()
	root.SetArgs(args)
	err := root.ExecuteContext(ctx)
	if err != nil && strings.HasPrefix(err.Error(), "unknown command") { // cobra has no type for it
		err = noCommand(root, args)
	}
	if err != nil && ctx.Err() != nil {
		err = context.Canceled
	}
	return a.exit(err)
}

// mostMemory is from where on memory is given back at once, in bytes; 256 MB are promised.
const mostMemory = 200 << 20

// serveOften lets a server collect its garbage half as often as other commands do, so that answers come sooner.
func serveOften() { debug.SetGCPercent(400) }

// app is what all commands share.
type app struct {
	in       io.Reader
	out, err io.Writer
	screen   *term.Screen
	json     bool
	dryRun   bool
	to       []string
	entry    string
	onChange string
}

// command is a command of havvel: what cobra needs, in the order in which the help shows it.
type command struct {
	use, short, long, example string
	args                      cobra.PositionalArgs
	run                       func(ctx context.Context, args []string) error
}

func (a *app) root() *cobra.Command {
	root := &cobra.Command{
		Use:   "havvel",
		Short: "Take the web export of a game to the portals that show it",
		Long: a.screen.Wrapped("Havvel reads the web export that a game engine wrote, says what would go wrong with it on each portal, " +
			"writes the archive that each portal wants, uploads it, and follows it until it is public."),
		Example:            "  havvel demo             walk the whole way, with a game and a portal that come along\n  havvel look export/web  what an export is made of",
		Version:            version,
		SilenceErrors:      true,
		SilenceUsage:       true,
		DisableSuggestions: true, // ours come with noCommand
	}
	const itself = "Havvel itself:"
	root.SetHelpCommandGroupID(itself)
	root.CompletionOptions.DisableDefaultCmd = true // ours says the same in fewer words
	root.SetUsageTemplate(strings.ReplaceAll(root.UsageTemplate(), "FlagUsages", fmt.Sprintf("FlagUsagesWrapped %d", a.screen.HelpWidth())))
	root.SetIn(a.in)
	root.SetOut(a.out)
	root.SetErr(a.err)
	root.SetFlagErrorFunc(func(c *cobra.Command, err error) error { return &usage{err.Error(), c.CommandPath()} })
	for _, g := range []struct {
		title    string
		commands []*cobra.Command
	}{
		{"To begin:", []*cobra.Command{a.demo(), a.start()}},
		{"The build:", []*cobra.Command{a.look(), a.check(), a.pack(), a.compare()}},
		{"Running it:", []*cobra.Command{a.play(), a.trial(), a.hooks()}},
		{"The page:", []*cobra.Command{a.listing(), a.pictures()}},
		{"The way to players:", []*cobra.Command{a.send(), a.where(), a.publish(), a.back(), a.logbook(), a.keys()}},
		{"Playtests:", []*cobra.Command{a.round(), a.host()}},
		{"Portals:", []*cobra.Command{a.rules(), a.standin()}},
		{itself, []*cobra.Command{a.completion(root)}},
	} {
		root.AddGroup(&cobra.Group{ID: g.title, Title: g.title})
		for _, c := range g.commands {
			c.GroupID = g.title
			root.AddCommand(c)
		}
	}
	return root
}

// new makes a cobra command.
func (a *app) new(c command) *cobra.Command {
	return &cobra.Command{
		Use: c.use, Short: c.short, Long: a.screen.Wrapped(c.long), Example: c.example,
		DisableFlagsInUseLine: true,
		Args: func(cmd *cobra.Command, args []string) error {
			if err := c.args(cmd, args); err != nil {
				return &usage{err.Error(), cmd.CommandPath()}
			}
			return nil
		},
		RunE: func(cmd *cobra.Command, args []string) error { return c.run(cmd.Context(), args) },
	}
}

// group makes a command that only holds others.
func (a *app) group(c command, inner ...*cobra.Command) *cobra.Command {
	g := &cobra.Command{Use: c.use, Short: c.short, Long: a.screen.Wrapped(c.long), Example: c.example}
	g.RunE = func(cmd *cobra.Command, args []string) error {
		if len(args) == 0 {
			return cmd.Help()
		}
		return noCommand(g, args)
	}
	g.AddCommand(inner...)
	return g
}

// noCommand says that the first word among args names none of the commands below one.
func noCommand(below *cobra.Command, args []string) error {
	first := slices.IndexFunc(args, func(a string) bool { return !strings.HasPrefix(a, "-") })
	var names []string
	for _, c := range below.Commands() {
		names = append(names, c.Name())
	}
	message := fmt.Sprintf("there is no command %q", below.CommandPath()+" "+args[first])
	if near := settings.Nearest(args[first], names); near != "" {
		message += fmt.Sprintf("; did you mean %q?", near)
	}
	return &usage{message, below.CommandPath()}
}

func (a *app) withJSON(c *cobra.Command) {
	c.Flags().BoolVar(&a.json, "json", false, "print one JSON document, for programs")
}

func (a *app) withDryRun(c *cobra.Command, what string) {
	c.Flags().BoolVar(&a.dryRun, "dry-run", false, what)
}

func (a *app) withTo(c *cobra.Command) {
	c.Flags().StringArrayVar(&a.to, "to", nil, "only this `destination` of havvel.toml; may be repeated")
	c.RegisterFlagCompletionFunc("to", a.destinationNames)
}

// destinationNames completes the name of a destination.
func (a *app) destinationNames(*cobra.Command, []string, string) ([]string, cobra.ShellCompDirective) {
	p, err := project.Find(".")
	if err != nil {
		return nil, cobra.ShellCompDirectiveNoFileComp
	}
	var names []string
	all, _ := p.Destinations(nil) // naming none is never wrong
	for _, d := range all {
		names = append(names, d.Name)
	}
	return names, cobra.ShellCompDirectiveNoFileComp
}

// usage says that the command line is wrong.
type usage struct{ message, command string }

func (e *usage) Error() string {
	return fmt.Sprintf("%s\n  %s --help shows what it takes", e.message, e.command)
}

// project is the project here or above; it must be there.
func (a *app) project() (*project.Project, error) {
	p, err := project.Find(".")
	if errors.Is(err, project.ErrNone) {
		return nil, fmt.Errorf("%w\n  havvel start writes one for the export in this folder", err)
	}
	return p, err
}

// reading reads an export: anew, or with what is known from before.
type reading func(ctx context.Context, p *project.Project, path string) (*export.Build, error)

// exact is the reading for what is packed and sent: what is known from before is taken only where the system notes each
// change of a file.
func exact(ctx context.Context, p *project.Project, path string) (*export.Build, error) {
	if !export.Exact {
		return export.Read(ctx, path)
	}
	return known(ctx, p, path)
}

// cacheFolder is where a project's cache is.
func cacheFolder(p *project.Project) string { return filepath.Join(p.Folder, ".havvel", "cache") }

// subject is the export that a command is about, with the project when there is one: a path on the
// command line, the project's export, or this folder.
func (a *app) subject(ctx context.Context, args []string, read reading) (*project.Project, *export.Build, error) {
	p, err := project.Find(".")
	if err != nil && !errors.Is(err, project.ErrNone) {
		return nil, nil, err
	}
	path := "."
	switch {
	case len(args) > 0:
		path = args[0]
	case p != nil:
		path = term.Near(p.ExportPath())
	case isWorkshop("."):
		if path, err = a.findExport(nil); err != nil {
			return nil, nil, err
		}
	}
	b, err := read(ctx, p, path)
	var unreadable *export.Unreadable
	if errors.As(err, &unreadable) && p != nil && len(args) == 0 && !exists(path) {
		unreadable.Next = fmt.Sprintf("%s names it as game.export; export the game again, or correct the path there", project.Name)
	}
	if err != nil {
		return nil, nil, err
	}
	if err := a.enter(p, b, len(args) == 0); err != nil {
		b.Close()
		return nil, nil, err
	}
	if len(args) == 0 && p == nil && b.Entry == nil {
		b.Close()
		return nil, nil, &export.Unreadable{Path: "this folder", Reason: "there is no page in it that runs a script, and no " + project.Name + " that names an export", Next: "name the folder or zip that the engine wrote"}
	}
	if p != nil && len(args) == 0 {
		b.See(sights(p, b))
	}
	return p, b, nil
}

// sights are the requests that the last trials of this very export saw.
func sights(p *project.Project, b *export.Build) (list []export.Sight) {
	names := []string{""}
	if destinations, err := p.Destinations(nil); err == nil { // what is wrong with them, is said elsewhere
		for _, d := range destinations {
			names = append(names, d.Name)
		}
	}
	for _, name := range names {
		if last := trial.Last(p.Folder, name); last != nil && last.Fingerprint == b.Fingerprint {
			list = append(list, last.Sights()...)
		}
	}
	return list
}

// known is the reading for a look: with what is known of the export from before, in the project's folder or in the
// user's cache.
func known(ctx context.Context, p *project.Project, path string) (*export.Build, error) {
	if p != nil {
		return export.NewCache(cacheFolder(p)).Read(ctx, path)
	}
	if folder, err := os.UserCacheDir(); err == nil {
		return export.NewCache(filepath.Join(folder, "havvel")).Read(ctx, path)
	}
	return export.Read(ctx, path)
}

// enter takes the entry page that the command line names, or the project for its own export.
func (a *app) enter(p *project.Project, b *export.Build, own bool) error {
	entry := a.entry
	if entry == "" && p != nil && own {
		entry = p.Game.Entry
	}
	if entry == "" {
		return nil
	}
	return b.Enter(entry)
}

func (a *app) withEntry(c *cobra.Command) {
	c.Flags().StringVar(&a.entry, "entry", "", "take this `page` of the export as its entry page")
}

// subjects are what check is asked about a build: one for each destination, or one for none. own says that it is the
// project's own export.
func (a *app) subjects(ctx context.Context, p *project.Project, b *export.Build, to []string, own bool) ([]check.Subject, error) {
	if p == nil {
		if len(to) > 0 {
			return nil, fmt.Errorf("%w, so there is no destination %q\n  havvel start writes one for the export in this folder", project.ErrNone, to[0])
		}
		return []check.Subject{{Build: b}}, nil
	}
	destinations, err := p.Destinations(to)
	if err != nil {
		return nil, err
	}
	if len(destinations) == 0 {
		return []check.Subject{{Build: b, Accepts: accepts(p)}}, nil
	}
	// A logbook that can't be read hinders sending, not checking.
	sent, _, _ := logbook.Open(p.Folder).Deliveries()
	path, changed := p.Newest()
	var contents map[string]*deliver.Contents
	var orders []*pictures.Order
	if own {
		if contents, orders, err = a.pages(ctx, p, destinations, p.Game.Version); err != nil {
			return nil, err
		}
	}
	var list []check.Subject
	for i, d := range destinations {
		s := subject(p, d, b)
		if own {
			s.Paper = paperOf(p, d, contents[d.Name], orders[i], sent)
			// history and project say nothing about an export that was named by hand
			s.Version, s.Newest, s.Untried = p.Game.Version, check.Source{Path: path, Changed: changed}, untriedWhy(p, d, b)
		}
		for _, l := range sent {
			if own && l.Destination == d.Name {
				s.Sent = append(s.Sent, check.Sent{Version: l.Version, Fingerprint: l.Fingerprint, State: l.State, At: l.Sent})
			}
		}
		list = append(list, s)
	}
	return list, nil
}

// subject is what check is asked about a build that goes to a destination by pack.
func subject(p *project.Project, d *project.Destination, b *export.Build) check.Subject {
	s := check.Subject{Build: b, Destination: d.Name, Rules: d.Rules, Packed: true, Plants: d.Plants(), Without: slices.Clone(p.Pack.Without), Accepts: accepts(p)}
	for _, x := range p.Statistics {
		s.Statistics = append(s.Statistics, x.Name)
	}
	return s
}

func accepts(p *project.Project) []finding.Accept {
	var list []finding.Accept
	for _, a := range p.Accepts {
		list = append(list, finding.Accept{ID: a.ID, File: a.File, Reason: a.Reason})
	}
	return list
}

func (a *app) courier(p *project.Project) *deliver.Courier {
	return &deliver.Courier{Project: p, Book: logbook.Open(p.Folder), Report: a.screen.Progress(), Now: time.Now}
}

// destinations returns the project and the destinations that a command is about; there must be one.
func (a *app) destinations() (*project.Project, []*project.Destination, error) {
	p, err := a.project()
	if err != nil {
		return nil, nil, err
	}
	list, err := p.Destinations(a.to)
	if err == nil && len(list) == 0 {
		first := rulebook.Names()[0]
		err = &settings.Problem{
			File: filepath.Join(p.Folder, project.Name), Message: "it names no destination",
			Hint: fmt.Sprintf("add one (havvel rules list says which portals there are):\n\n  [to.%s]\n  rulebook = %q", first, first),
		}
	}
	return p, list, err
}
