package cli

import (
	"context"

	"github.com/spf13/cobra"

	"havvel/internal/app"
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
	k, err := a.desk()
	if err != nil {
		return err
	}
	var now *app.Deliveries
	if off {
		now, err = k.TakeOff(ctx)
	} else {
		now, err = k.Back(ctx, version)
	}
	return a.delivered(ctx, now, err)
}
