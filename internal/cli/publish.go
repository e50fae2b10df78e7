package cli

import (
	"context"

	"github.com/spf13/cobra"
)

func (a *console) publish() *cobra.Command {
	var some bool
	c := a.new(command{
		use:   "publish",
		short: "Make a sent version public",
		long: "Publish makes the last version that was sent to each destination public, and prints its link. The link stays the " +
			"same\nfor every later version. With --password, only those see it who have a password, which is asked for, or read from " +
			"standard\ninput; havvel where --share --password prints it again.",
		example: "  havvel publish\n  havvel publish --to brackwater",
		args:    cobra.NoArgs,
		run:     func(ctx context.Context, _ []string) error { return a.runPublish(ctx, some) },
	})
	c.Flags().BoolVar(&some, "password", false, "show it only to those who have a password")
	a.withNotice(c)
	a.withTo(c)
	a.withDryRun(c, "say what would be made public, and do nothing")
	return c
}

func (a *console) runPublish(ctx context.Context, some bool) error {
	k, err := a.desk()
	if err != nil {
		return err
	}
	do := k.Publish
	if some {
		do = k.Restrict
	}
	now, err := do(ctx)
	return a.delivered(ctx, now, err)
}
