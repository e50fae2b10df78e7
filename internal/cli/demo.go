package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"time"

	"github.com/spf13/cobra"

	"havvel/internal/cli/term"
	"havvel/internal/demo"
	"havvel/internal/standin"
)

func (a *console) demo() *cobra.Command {
	var folder string
	var stay, round bool
	c := a.new(command{
		use:   "demo",
		short: "The full example, from an export to a public link",
		long: "Demo writes a project with a real game into a folder, starts simulated portals on this machine, and walks the whole way with " +
			"the real commands: from the export to a public page, and a second version under the same link. With --round it goes to a\n" +
			"playtest host instead, where simulated testers play it, two of them in a real browser.",
		example: "  havvel demo --stay --dir try\n  havvel demo --round",
		args:    cobra.NoArgs,
		run: func(ctx context.Context, _ []string) error {
			if round {
				return a.runDemoRound(ctx, folder, stay)
			}
			return a.runDemo(ctx, folder, stay)
		},
	})
	c.Flags().StringVar(&folder, "dir", "tinderwick-demo", "`folder` for the project")
	c.Flags().BoolVar(&stay, "stay", false, "keep the portals, or the playtest host, up at the end, until Ctrl-C")
	c.Flags().BoolVar(&round, "round", false, "the example of a playtest round instead")
	a.withDryRun(c, "print the commands, and run nothing")
	return c
}

func (a *console) runDemo(ctx context.Context, folder string, stay bool) error {
	s := a.screen
	if a.dryRun {
		a.planned(demo.Walk())
		return nil
	}
	began := time.Now()
	portals, err := demoWorld(folder)
	if err != nil {
		return err
	}
	for _, p := range portals {
		defer p.Stop()
	}
	portal := portals[0]
	s.Line(
		"The game Tinderwick Lane is in %s; three simulated portals are on this machine, Brackwater at %s.",
		s.In(term.Strong, folder),
		portal.Address(),
	)
	s.Line("These are the commands as you would type them in that folder, and what they print:")
	for _, stop := range demo.Walk() {
		if err := a.stop(ctx, folder, stop); err != nil {
			return err
		}
	}
	link := portal.Address() + "/play/tinderwick-lane"
	a.tell(map[string]string{"event": "public", "link": link, "folder": folder})
	s.Line("")
	s.Line(
		"%s %s",
		s.In(term.Good, fmt.Sprintf("From the export to a public page in %.0fs:", time.Since(began).Seconds())),
		s.In(term.Strong, link),
	)
	if stay {
		s.Next("open the link and play. The portals stay up until Ctrl-C")
		<-ctx.Done()
		s.Line("")
		s.Line("The portals are closed; the project stays in %s.", folder)
		return nil
	}
	a.goOn(folder, portal.Address())
	return nil
}

// goOn says how the demo's world is gone on with.
func (a *console) goOn(folder, address string) {
	s, me := a.screen, callMe()
	port := address[strings.LastIndex(address, ":")+1:]
	s.Line("The portals are closed again; the project stays in %s. To go on:", folder)
	s.Line("")
	s.Line("%s", s.In(term.Careful, "# The portals again, with the game in it: open the link and play."))
	s.Line("$ cd %s && %s standin --data %s --port %s", folder, me(folder), demo.PortalFolder, port)
	s.Line(
		"%s",
		s.In(term.Careful, "# The game as the portal would show it, with its calls live in the terminal; and what a real browser makes of it."),
	)
	s.Line("$ %s play --as brackwater", me(folder))
	s.Line("$ %s trial", me(folder))
	s.Line("%s", s.In(term.Careful, "# The same game as engines also write it: in one page, or in files of its own."))
	s.Line("$ %s look export/single-page", me(folder))
	s.Line("%s", s.In(term.Careful, "# A playtest of it on a host of your own, with simulated testers."))
	s.Line("$ %s demo --round --dir ../tinderwick-round", me(folder))
	s.Line("%s", s.In(term.Careful, "# Your own game: in its folder, where the engine's export is."))
	s.Line("$ %s start", me(""))
}

// demoJSON is one command of the demo.
type demoJSON struct {
	Event   string   `json:"event,omitempty"`
	Why     string   `json:"why"`
	Command []string `json:"command"`
}

// planned prints what would be run.
func (a *console) planned(stops []demo.Stop) {
	var doc []demoJSON
	for _, stop := range stops {
		doc = append(doc, demoJSON{Why: stop.Why, Command: stop.Command})
	}
	a.answer(map[string]any{"commands": doc})
	for _, stop := range stops {
		a.screen.Line("%s", a.screen.In(term.Quiet, "# "+stop.Why))
		a.screen.Line("$ havvel %s", strings.Join(stop.Command, " "))
	}
}

// demoWorld starts the portals on ports that follow each other, as standin does, and writes the project, which names them. What
// they keep from an earlier demo is cleared with the project.
func demoWorld(folder string) ([]*standin.Portal, error) {
	const tries = 20
	write := demo.Write
	for try := 1; ; try++ {
		first, err := standin.FreeAddress()
		if err != nil {
			return nil, err
		}
		addresses, err := demo.Addresses(first)
		if err != nil {
			return nil, err
		}
		if err := write(folder, addresses); err != nil {
			return nil, err
		}
		write = demo.Readdress // one of these ports may be taken meanwhile
		portals, err := demo.Open(filepath.Join(folder, demo.PortalFolder), first)
		if err == nil || try == tries {
			return portals, err
		}
	}
}

// stop walks one station of the example.
func (a *console) stop(ctx context.Context, folder string, stop demo.Stop) error {
	s := a.screen
	s.Line("")
	s.Line("%s", s.In(term.Careful, "# "+stop.Why))
	if stop.Before != nil {
		if err := stop.Before(folder); err != nil {
			return err
		}
	}
	s.Line("%s", s.In(term.Strong, "$ havvel "+strings.Join(stop.Command, " ")))
	self, err := os.Executable()
	if err != nil {
		return fmt.Errorf("finding havvel's own program: %w", err)
	}
	c := exec.CommandContext(ctx, self, stop.Command...)
	c.Dir = folder
	c.Env = append(append(os.Environ(), demo.Keys()...), stop.Env...)
	a.tell(demoJSON{"command", stop.Why, stop.Command})
	if c.Stdout, c.Stderr = a.out, a.err; a.json {
		c.Stdout = io.Discard
	}
	c.Cancel = func() error { return c.Process.Signal(syscall.SIGINT) }
	c.WaitDelay = 5 * time.Second
	err = c.Run()
	var ended *exec.ExitError
	if err != nil && !errors.As(err, &ended) {
		return fmt.Errorf("running havvel %s: %w", stop.Command[0], err)
	}
	if ctx.Err() != nil {
		return ctx.Err()
	}
	if code := c.ProcessState.ExitCode(); code != stop.Answer {
		return fmt.Errorf("havvel %s ended with %d, where the demo expected %d", stop.Command[0], code, stop.Answer)
	}
	return nil
}

// callMe returns how this program is called from a folder, "" for any: by its name where that finds it.
func callMe() func(folder string) string {
	self, err := os.Executable()
	if found, lookErr := exec.LookPath("havvel"); err == nil && lookErr == nil {
		if a, err := filepath.EvalSymlinks(found); err == nil && a == self {
			return func(string) string { return "havvel" }
		}
	}
	return func(folder string) string {
		at, err := filepath.Abs(folder)
		if err != nil || folder == "" {
			return self
		}
		if short, err := filepath.Rel(at, self); err == nil && len(short) < len(self) {
			if !strings.HasPrefix(short, ".") {
				return "." + string(filepath.Separator) + short
			}
			return short
		}
		return self
	}
}
