package cli

import (
	"context"

	"github.com/spf13/cobra"

	"havvel/internal/app"
	"havvel/internal/deliver"
)

func (a *console) back() *cobra.Command {
	var off, recall, anyway bool
	c := a.new(command{
		use:   "back [VERSION]",
		short: "Make an earlier version current again",
		long: "Back makes an earlier version public again, under the same link: the one that was public before, or the one that is\n" +
			"named. With --off it takes the public version offline, and nothing is public there afterwards.\n" +
			"With --from-review it takes the last version back from a portal that reviews it.",
		example: "  havvel back\n  havvel back 0.4.0 --to shed",
		args:    cobra.MaximumNArgs(1),
		run: func(ctx context.Context, args []string) error {
			version := ""
			if len(args) > 0 {
				version = args[0]
			}
			return a.runBack(ctx, version, off, recall, anyway)
		},
	})
	c.Flags().BoolVar(&off, "off", false, "take the public version offline")
	c.Flags().BoolVar(&recall, "from-review", false, "take the last version back from review")
	c.Flags().BoolVar(&anyway, "accept-differences", false, "on a site: also where players get it in another form than it was sent")
	c.MarkFlagsMutuallyExclusive("off", "from-review")
	a.withNotice(c)
	a.withTo(c)
	a.withDryRun(c, "say what would become public, and do nothing")
	return c
}

func (a *console) runBack(ctx context.Context, version string, off, recall, anyway bool) error {
	if (off || recall) && version != "" {
		return wrong("havvel back", "--off and --from-review name no version: they are about the public one, and the last")
	}
	k, err := a.desk()
	if err != nil {
		return err
	}
	k.Courier.Anyway = anyway
	var now *app.Deliveries
	switch {
	case off:
		now, err = k.TakeOff(ctx)
	case recall:
		now, err = k.Other(ctx, deliver.Recall, nil)
	default:
		now, err = k.Back(ctx, version)
	}
	return a.delivered(ctx, now, err)
}
