package cli

import (
	"context"
	"fmt"

	"github.com/spf13/cobra"

	"havvel/internal/app"
	"havvel/internal/cli/term"
	"havvel/internal/deliver"
	"havvel/internal/logbook"
	"havvel/internal/project"
	"havvel/internal/rulebook"
)

func (a *console) back() *cobra.Command {
	var off bool
	c := a.new(command{
		use:   "back [VERSION]",
		short: "Make an earlier version current again",
		long: "Back makes an earlier version public again, under the same link: the one that was public before, or the one that is\n" +
			"named. With --off it takes the public version offline, and nothing is public there afterwards.",
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
	c.Flags().BoolVar(&off, "off", false, "take the public version offline")
	a.withNotice(c)
	a.withTo(c)
	a.withDryRun(c, "say what would become public, and do nothing")
	return c
}

func (a *console) runBack(ctx context.Context, version string, off bool) error {
	if off && version != "" {
		return wrong("havvel back", "--off takes the public version offline, whichever it is")
	}
	return a.atEach(ctx, func(courier *deliver.Courier, d *project.Destination) (*deliver.Status, string, error) {
		return a.backOne(ctx, courier, d, version, off)
	})
}

func (a *console) backOne(
	ctx context.Context,
	courier *deliver.Courier,
	d *project.Destination,
	version string,
	off bool,
) (*deliver.Status, string, error) {
	if off {
		return a.takeOff(ctx, courier, d)
	}
	now, to, err := app.Toward(courier, d, version)
	if err != nil {
		return nil, "", err
	}
	s := a.screen
	switch {
	case to == now:
		s.Line("version %s is public on %s already", to.Version, d.Rules.Name)
		return &deliver.Status{Delivery: to}, "", nil
	case a.dryRun:
		s.Line("version %s would become public on %s%s", to.Version, d.Rules.Name, insteadOf(now))
		return &deliver.Status{Delivery: to, Would: rulebook.Public}, "", nil
	}
	status, err := courier.Back(ctx, d, to)
	if err != nil {
		return nil, "", err
	}
	s.Line(
		"%s  %s",
		s.In(term.Strong, fmt.Sprintf("version %s is %s on %s%s", status.Version, status.State, d.Rules.Name, insteadOf(now))),
		term.Clean(status.Link()),
	)
	if err := a.live(ctx, courier, d, status); err != nil {
		return status, "", err
	}
	return status, "fix the later version, and send it again under a new number", nil
}

func (a *console) takeOff(ctx context.Context, courier *deliver.Courier, d *project.Destination) (*deliver.Status, string, error) {
	now, _, err := courier.Earlier(d, "")
	if err != nil {
		return nil, "", err
	}
	if now == nil {
		return nil, "", refused("nothing is public on %s", d.Name)
	}
	if a.dryRun {
		a.screen.Line("version %s would be taken offline on %s", now.Version, d.Rules.Name)
		return &deliver.Status{Delivery: now, Would: rulebook.Withdrawn}, "", nil
	}
	status, err := courier.Withdraw(ctx, d, now)
	if err != nil {
		return status, "", err
	}
	a.screen.Line(
		"%s",
		a.screen.In(term.Strong, fmt.Sprintf("version %s is %s; nothing is public on %s now", status.Version, status.State, d.Rules.Name)),
	)
	return status, fmt.Sprintf("havvel back %s --to %s  (makes it public again)", now.Version, d.Name), nil
}

func insteadOf(now *logbook.Delivery) string {
	if now == nil {
		return ""
	}
	return ", instead of " + now.Version
}
