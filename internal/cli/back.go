package cli

import (
	"context"
	"fmt"

	"github.com/spf13/cobra"

	"havvel/internal/cli/term"
	"havvel/internal/deliver"
	"havvel/internal/logbook"
	"havvel/internal/project"
)

func (a *app) back() *cobra.Command {
	var off bool
	c := a.new(command{
		use:   "back [VERSION]",
		short: "Make an earlier version current again",
		long: "Back makes an earlier version public again, under the same link: the one that was public before, or the one that is\n" +
			"named. With --off it takes the public version off, and nothing is public there afterwards.",
		example: "  havvel back\n  havvel back 0.4.0 --to shed",
		args:    cobra.MaximumNArgs(1),
		run: func(ctx context.Context, args []string) error {
			version := ""
			if len(args) > 0 {
				version = args[0]
			}
			return a.runBack(ctx, version, off)
		},
	})
	c.Flags().BoolVar(&off, "off", false, "take the public version off")
	a.withNotice(c)
	a.withTo(c)
	a.withJSON(c)
	a.withDryRun(c, "say what would become public, and do nothing")
	return c
}

func (a *app) runBack(ctx context.Context, version string, off bool) error {
	if off && version != "" {
		return &usage{"--off takes the public version off, whichever it is", "havvel back"}
	}
	return a.atEach(ctx, func(courier *deliver.Courier, d *project.Destination) (*deliver.Status, string, error) {
		return a.backOne(ctx, courier, d, version, off)
	})
}

func (a *app) backOne(ctx context.Context, courier *deliver.Courier, d *project.Destination, version string, off bool) (*deliver.Status, string, error) {
	now, to, err := courier.Earlier(d, version)
	if err != nil {
		return nil, "", err
	}
	if off {
		return a.takeOff(ctx, courier, d)
	}
	s := a.screen
	switch {
	case to == nil && version != "":
		return nil, "", &notReady{fmt.Sprintf("version %s was never sent to %s\n  havvel logbook --to %s lists those that were", version, d.Name, d.Name)}
	case to == nil && now != nil:
		return nil, "", &notReady{fmt.Sprintf("%s is public on %s, and nothing was before it\n  havvel back --off takes it off, so that nothing is public there; havvel logbook lists what was sent", now.Version, d.Name)}
	case to == nil:
		if _, err := lastOf(courier, d); err != nil {
			return nil, "", err
		}
		return nil, "", &notReady{fmt.Sprintf("nothing is public on %s, and nothing was replaced there\n  havvel logbook --to %s lists what was sent; havvel publish makes the last of it public, havvel back VERSION another", d.Name, d.Name)}
	case to == now:
		s.Line("version %s is public on %s already", to.Version, d.Rules.Name)
		return &deliver.Status{Delivery: to}, "", nil
	case a.dryRun:
		s.Line("version %s would become public on %s%s", to.Version, d.Rules.Name, insteadOf(now))
		return nil, "", nil
	}
	status, err := courier.Back(ctx, d, to)
	if err != nil {
		return nil, "", err
	}
	if !a.json {
		s.Line("%s  %s", s.In(term.Strong, fmt.Sprintf("version %s is %s on %s%s", status.Version, status.State, d.Rules.Name, insteadOf(now))), term.Clean(status.Link()))
	}
	if err := a.live(ctx, courier, d, status); err != nil {
		return status, "", err
	}
	return status, "mend the later version, and send it again under a new number", nil
}

func (a *app) takeOff(ctx context.Context, courier *deliver.Courier, d *project.Destination) (*deliver.Status, string, error) {
	now, _, err := courier.Earlier(d, "")
	if err != nil {
		return nil, "", err
	}
	if now == nil {
		return nil, "", &notReady{fmt.Sprintf("nothing is public on %s", d.Name)}
	}
	if a.dryRun {
		a.screen.Line("version %s would be taken off %s", now.Version, d.Rules.Name)
		return nil, "", nil
	}
	status, err := courier.Withdraw(ctx, d, now)
	if err != nil {
		return status, "", err
	}
	if !a.json {
		a.screen.Line("%s", a.screen.In(term.Strong, fmt.Sprintf("version %s is %s; nothing is public on %s now", status.Version, status.State, d.Rules.Name)))
	}
	return status, fmt.Sprintf("havvel back %s --to %s  (makes it public again)", now.Version, d.Name), nil
}

func insteadOf(now *logbook.Delivery) string {
	if now == nil {
		return ""
	}
	return ", instead of " + now.Version
}
