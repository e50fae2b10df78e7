package cli

import (
	"context"
	"net"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"havvel/internal/cli/term"
	"havvel/internal/demo"
	"havvel/internal/inwords"
	"havvel/internal/settings"
	"havvel/internal/standin"
)

type standinFlags struct {
	data  string
	port  int
	fault string
	at    string
	takes time.Duration
}

func (a *console) standin() *cobra.Command {
	var f standinFlags
	c := a.new(command{
		use:   "standin [NAME]...",
		short: "Run the simulated portals",
		long: "Standin runs portals that behave like real ones, on this machine only, to try things out: an arcade that verifies by itself,\n" +
			"an open host of pages, and a portal where a person accepts or refuses. All of them, or those that are named. What was sent to " +
			"them stays in their data folder. They can be made to misbehave, to see how an upload copes. Ctrl-C ends them.",
		example: "  havvel standin --data portals\n  havvel standin brackwater --port 7411 --fault drop-upload --at 100KB",
		run:     func(ctx context.Context, args []string) error { return a.runStandin(ctx, args, f) },
		args:    cobra.ArbitraryArgs,
	})
	c.Flags().StringVar(&f.data, "data", "standin-data", "`folder` for what the portals are told")
	a.withPort(c, &f.port, 7411, 2, "`port` on this machine, and those after it; 0 takes free ones")
	c.Flags().StringVar(&f.fault, "fault", "", "misbehave in this `way`: "+strings.Join(standin.Faults(), ", "))
	c.Flags().StringVar(&f.at, "at", "", "after how many `bytes` of an upload a fault strikes, such as 100KB (in the middle)")
	c.Flags().DurationVar(&f.takes, "verify-time", 1200*time.Millisecond, "how much `time` verification takes")
	a.withDryRun(c, "say what would be started, and start nothing")
	c.RegisterFlagCompletionFunc("fault", cobra.FixedCompletions(standin.Faults(), cobra.ShellCompDirectiveNoFileComp))
	for _, x := range demo.StandIns("") {
		c.ValidArgs = append(c.ValidArgs, x.Rulebook)
	}
	return c
}

func (a *console) runStandin(ctx context.Context, names []string, f standinFlags) error {
	list, err := chosenStandIns(names, f)
	if err != nil {
		return err
	}
	s := a.screen
	var said string
	var planned []standinJSON
	defer func() {
		if a.dryRun {
			a.answer(map[string]any{"portals": planned})
		}
	}()
	for i, x := range list {
		port := 0
		if f.port > 0 {
			port = f.port + i
		}
		address := net.JoinHostPort("127.0.0.1", strconv.Itoa(port))
		if a.dryRun {
			planned = append(planned, standinJSON{Rulebook: x.Rulebook, Name: x.Options.Name, Address: "http://" + address})
			s.Line("%s would be at http://%s, with its data in %s", x.Options.Name, address, x.Options.Folder)
			continue
		}
		portal, err := standin.Start(address, x.Options)
		if err != nil {
			return err
		}
		defer portal.Stop()
		a.tell(standinJSON{"listening", x.Rulebook, x.Options.Name, portal.Address() + x.Path, x.Key})
		s.Line("%s (simulated) is at %s", s.In(term.Strong, x.Options.Name), portal.Address())
		s.Line("  in havvel.toml:  [to.%s]", x.Rulebook)
		s.Line("                   rulebook = %q", x.Rulebook)
		s.Line("                   address  = %q", portal.Address()+x.Path)
		if x.Options.Kind == standin.Desk {
			s.Line("  a person decides at %s/desk", portal.Address())
		}
		s.Line("  its key:         export %s_KEY=%s", strings.ToUpper(x.Rulebook), x.Key)
		s.Line("")
		said = x.Rulebook
	}
	if a.dryRun {
		return nil
	}
	s.Line("These keys are no secrets; they open nothing else.")
	if len(list) == 1 {
		s.Next("in another terminal, in the folder of your game: havvel send --to %s.  Ctrl-C ends the portal", said)
	} else {
		s.Next("in another terminal, in the folder of your game: havvel send.  Ctrl-C ends the portals")
	}
	<-ctx.Done()
	s.Line("")
	a.tell(map[string]string{"event": "ended"})
	s.Line("closed; what was sent to them is in %s", f.data)
	return nil
}

// standinJSON is a portal that is simulated.
type standinJSON struct {
	Event    string `json:"event,omitempty"`
	Rulebook string `json:"rulebook"`
	Name     string `json:"name"`
	Address  string `json:"address"`
	Key      string `json:"key,omitempty"` // no secret
}

// chosenStandIns are the portals that are named, or all, as they are told to behave.
func chosenStandIns(names []string, f standinFlags) ([]demo.StandIn, error) {
	if f.fault != "" && !slices.Contains(standin.Faults(), f.fault) {
		return nil, wrong("havvel standin", "--fault is %q; it can be %s", f.fault, strings.Join(standin.Faults(), ", "))
	}
	if f.port < 0 || f.port > 65530 {
		return nil, wrong("havvel standin", "--port is %d; ports go from 0 to 65530", f.port)
	}
	var at settings.Size
	if f.at != "" {
		if err := at.UnmarshalText([]byte(f.at)); err != nil {
			return nil, wrong("havvel standin", "--at: %w", err)
		}
	}
	var list []demo.StandIn
	var known []string
	for _, x := range demo.StandIns(f.data) {
		known = append(known, x.Rulebook)
		if len(names) > 0 && !slices.Contains(names, x.Rulebook) {
			continue
		}
		x.Options.Fault, x.Options.VerifyTime, x.Options.FaultAt = standin.Fault(f.fault), f.takes, int64(at)
		list = append(list, x)
	}
	for _, name := range names {
		if !slices.Contains(known, name) {
			return nil, wrong("havvel standin", "there is no simulated portal %q; %s", name, inwords.There(known))
		}
	}
	return list, nil
}
