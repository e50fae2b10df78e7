package cli

import (
	"context"
	"fmt"
	"net"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"havvel/internal/cli/term"
	"havvel/internal/demo"
	"havvel/internal/standin"
)

type standinFlags struct {
	data  string
	port  int
	fault string
	takes time.Duration
}

func (a *app) standin() *cobra.Command {
	var f standinFlags
	c := a.new(command{
		use:   "standin",
		short: "Run the simulated portals",
		long: "Standin runs portals that behave like real ones, on this machine only, to try things out: they take archives, verify\n" +
			"them, and show public pages. What they were told stays in their data folder. Ctrl-C ends them.",
		example: "  havvel standin --data portal\n  havvel standin --data portal --port 7411 --fault never-finish",
		args:    cobra.NoArgs,
		run:     func(ctx context.Context, _ []string) error { return a.runStandin(ctx, f) },
	})
	c.Flags().StringVar(&f.data, "data", "standin-data", "`folder` for what the portals are told")
	c.Flags().IntVar(&f.port, "port", 7411, "`port` on this machine; 0 takes a free one")
	c.Flags().StringVar(&f.fault, "fault", "", "misbehave in this `way`: "+strings.Join(standin.Faults(), ", "))
	c.Flags().DurationVar(&f.takes, "verify-time", 1200*time.Millisecond, "how much `time` verification takes")
	a.withDryRun(c, "say what would be started, and start nothing")
	c.RegisterFlagCompletionFunc("fault", cobra.FixedCompletions(standin.Faults(), cobra.ShellCompDirectiveNoFileComp))
	return c
}

func (a *app) runStandin(ctx context.Context, f standinFlags) error {
	if f.fault != "" && !slices.Contains(standin.Faults(), f.fault) {
		return &usage{fmt.Sprintf("--fault is %q; it can be %s", f.fault, strings.Join(standin.Faults(), ", ")), "havvel standin"}
	}
	if f.port < 0 || f.port > 65535 {
		return &usage{fmt.Sprintf("--port is %d; ports go from 0 to 65535", f.port), "havvel standin"}
	}
	o := demo.Brackwater(f.data)
	o.Fault, o.VerifyTime = standin.Fault(f.fault), f.takes
	address := net.JoinHostPort("127.0.0.1", strconv.Itoa(f.port))
	if a.dryRun {
		a.screen.Line("%s would be at http://%s, with its data in %s", o.Name, address, f.data)
		return nil
	}
	portal, err := standin.Start(address, o)
	if err != nil {
		return err
	}
	defer portal.Stop()
	s := a.screen
	s.Line("%s (simulated) is at %s", s.In(term.Strong, o.Name), portal.Address())
	s.Line("  practice key: %s  (not a secret; it opens nothing else)", demo.PracticeKey)
	s.Line("  in havvel.toml:  [to.brackwater]")
	s.Line("                   rulebook = \"brackwater\"")
	s.Line("                   address  = %q", portal.Address())
	s.Next("in another terminal: export BRACKWATER_KEY=%s, then havvel send.  Ctrl-C ends the portal", demo.PracticeKey)
	<-ctx.Done()
	s.Line("")
	s.Line("%s is closed; what it was told is in %s", o.Name, f.data)
	return nil
}
