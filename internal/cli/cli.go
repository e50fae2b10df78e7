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
	"runtime/debug"
	"slices"
	"strings"
	"syscall"
	"time"

	"github.com/spf13/cobra"

	"havvel/internal/cli/term"
	"havvel/internal/deliver"
	"havvel/internal/logbook"
	"havvel/internal/project"
	"havvel/internal/release"
	"havvel/internal/rulebook"
	"havvel/internal/settings"
)

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
	a := &console{in: in, out: out, err: errOut, screen: term.New(out, errOut)}
	root := a.root()
	root.SetArgs(args)
	a.json = slices.Contains(args, "--json") // also when what else is there is wrong
	if a.json {
		root.SetVersionTemplate(`{{""}}`)
	}
	err := root.ExecuteContext(ctx)
	if f := root.Flags().Lookup("version"); f != nil && f.Changed {
		a.answer(map[string]string{"version": release.Version(), "released": release.Day()})
	}
	if err != nil && strings.HasPrefix(err.Error(), "unknown command") { // cobra has no type for it
		err = noCommand(root, args)
	}
	if err != nil && ctx.Err() != nil {
		err = context.Canceled
	}
	return a.finish(err)
}

// mostMemory is from where on memory is given back at once, in bytes; 256 MB are promised.
const mostMemory = 176 << 20

// serveOften lets a server collect its garbage half as often as other commands do, so that answers come sooner.
func serveOften() { debug.SetGCPercent(400) }

// Root is the command that holds all others, for those who document it.
func Root(in io.Reader, out, errOut io.Writer) *cobra.Command {
	return (&console{in: in, out: out, err: errOut, screen: term.New(out, errOut)}).root()
}

// console is what all commands share.
type console struct {
	in       io.Reader
	out, err io.Writer
	screen   *term.Screen
	json     bool // print one document for programs, or lines
	raw      bool // what is on standard output is no document of ours: help, a report in another format
	lines    bool // lines were printed
	doc      any  // what the command prints with --json
	dryRun   bool
	to       []string
	entry    string
	onChange string
	after    []func() // what is to be done when the command has ended
	asking   *asker
}

// command is a command of havvel: what cobra needs, in the order in which the help shows it.
type command struct {
	use, short, long, example string
	args                      cobra.PositionalArgs
	run                       func(ctx context.Context, args []string) error
}

func (a *console) root() *cobra.Command {
	root := &cobra.Command{
		Use:   "havvel",
		Short: "Take the web export of a game to the portals that show it",
		Long: a.screen.Wrapped("Havvel reads the web export that a game engine wrote, says what would go wrong with it on each portal, " +
			"writes the archive that each portal wants, uploads it, and follows it until it is public."),
		Example: "  havvel demo             see the whole way, with a game and portals that ship with havvel\n  havvel look " +
			"export/web  what an export is made of",
		Version:            strings.TrimSuffix(release.Version()+" of "+release.Day(), " of "),
		SilenceErrors:      true,
		SilenceUsage:       true,
		DisableSuggestions: true, // ours come with noCommand
	}
	root.CompletionOptions.DisableDefaultCmd = true // ours says the same in fewer words
	root.SetUsageTemplate(strings.ReplaceAll(root.UsageTemplate(), "FlagUsages", fmt.Sprintf("FlagUsagesWrapped %d", a.screen.HelpWidth())))
	root.SetIn(a.in)
	root.SetOut(a.out)
	root.SetErr(a.err)
	root.SetFlagErrorFunc(func(c *cobra.Command, err error) error { return wrong(c.CommandPath(), "%w", err) })
	a.everywhere(root)
	help := root.HelpFunc()
	root.SetHelpFunc(func(c *cobra.Command, args []string) {
		a.raw = true
		help(c, args)
	})
	const itself = "Havvel itself:"
	helper := a.help(root)
	root.SetHelpCommand(helper)
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
		{itself, []*cobra.Command{a.completion(root), helper}},
	} {
		root.AddGroup(&cobra.Group{ID: g.title, Title: g.title})
		for _, c := range g.commands {
			c.GroupID = g.title
			root.AddCommand(c)
		}
	}
	return root
}

// everywhere adds the flags that all commands have.
func (a *console) everywhere(root *cobra.Command) {
	root.PersistentFlags().BoolVar(&a.json, "json", false, "print JSON for programs, and no words")
	var folder string
	root.PersistentFlags().StringVarP(&folder, "folder", "C", "", "run as if started in this `folder`, such as that of one game among several")
	root.PersistentPreRunE = func(*cobra.Command, []string) error {
		if a.json {
			a.screen.Mute()
		}
		if folder == "" {
			return nil
		}
		if err := os.Chdir(folder); err != nil {
			return wrong("havvel", "--folder: can't go to %s: %w", folder, errors.Unwrap(err))
		}
		return nil
	}
}

// new makes a cobra command.
func (a *console) new(c command) *cobra.Command {
	return &cobra.Command{
		Use: c.use, Short: c.short, Long: a.screen.Wrapped(c.long), Example: c.example,
		DisableFlagsInUseLine: true,
		Args: func(cmd *cobra.Command, args []string) error {
			if c.args(cmd, args) == nil {
				return nil
			}
			form := cmd.CommandPath() + strings.TrimPrefix(c.use, cmd.Name())
			for n := len(args) - 1; n >= 0; n-- {
				if c.args(cmd, args[:n]) == nil {
					return wrong(cmd.CommandPath(), "%q is one word too many; the form is: %s", args[n], form)
				}
			}
			return wrong(cmd.CommandPath(), "something is missing; the form is: %s", form)
		},
		RunE: func(cmd *cobra.Command, args []string) error {
			defer a.done()
			return c.run(cmd.Context(), args)
		},
	}
}

// done does what is to be done when a command has ended.
func (a *console) done() {
	for _, f := range a.after {
		f()
	}
	a.after = nil
}

// group makes a command that only holds others.
func (a *console) group(c command, inner ...*cobra.Command) *cobra.Command {
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
	return wrong(below.CommandPath(), "%s", message)
}

func (a *console) withDryRun(c *cobra.Command, what string) {
	c.Flags().BoolVar(&a.dryRun, "dry-run", false, what)
}

func (a *console) withTo(c *cobra.Command) {
	c.Flags().StringArrayVar(&a.to, "to", nil, "only this `destination` of havvel.toml; may be repeated")
	c.RegisterFlagCompletionFunc("to", a.destinationNames)
}

// destinationNames completes the name of a destination.
func (a *console) destinationNames(*cobra.Command, []string, string) ([]string, cobra.ShellCompDirective) {
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

// project is the project here or above; it must be there.
func (a *console) project() (*project.Project, error) {
	return project.Find(".")
}

func (a *console) withEntry(c *cobra.Command) {
	c.Flags().StringVar(&a.entry, "entry", "", "take this `page` of the export as its entry page")
}

func (a *console) courier(p *project.Project) *deliver.Courier {
	c := &deliver.Courier{Project: p, Book: logbook.Open(p.Folder), Report: a.screen.Progress(), Now: time.Now, Prompt: a.confirm}
	c.Holding()
	a.after = append(a.after, c.Close)
	return c
}

// destinations returns the project and the destinations that a command is about; there must be one.
func (a *console) destinations() (*project.Project, []*project.Destination, error) {
	p, err := a.project()
	if err != nil {
		return nil, nil, err
	}
	list, err := p.Destinations(a.to)
	if err == nil && len(list) == 0 {
		first := rulebook.Names()[0]
		err = p.Problem("", "it names no destination").
			Then("havvel start --to %s adds one; havvel rules list says which portals there are, and a site is named by its address", first)
	}
	return p, list, err
}
