package cli

import (
	"context"
	"fmt"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"
	"rsc.io/qr"

	"havvel/internal/app"
	"havvel/internal/deliver"
	"havvel/internal/fault"
	"havvel/internal/inwords"
)

// publishFlags say who is to see a version, and when.
type publishFlags struct {
	password, review bool
	over, anyway     bool
	at, players      string
	testers          []string
}

func (a *console) publish() *cobra.Command {
	var f publishFlags
	c := a.new(command{
		use:   "publish",
		short: "Make a sent version public",
		long: "Publish makes the last version that was sent to each destination public, and prints its link. The link stays the " +
			"same\nfor every later version. With --password, only those see it who have a password, which is asked for, or read from " +
			"standard\ninput; havvel where --share --password prints it again. Where a portal can, --at makes it public at a time, --to-players " +
			"shows\nit to a share of the players, --testers to those in a list, and --review hands it in for review. On a site whose public\n" +
			"address is known, every file is looked at there before anything changes, and the link after it; a link that doesn't open\n" +
			"is taken back. There, --password looks whether the web server asks for one (havvel where --server writes its lines).",
		example: "  havvel publish\n  havvel publish --to brackwater",
		args:    cobra.NoArgs,
		run:     func(ctx context.Context, _ []string) error { return a.runPublish(ctx, f) },
	})
	c.Flags().BoolVar(&f.password, "password", false, "show it only to those who have a password")
	c.Flags().StringVar(&f.at, "at", "", "make it public at this `time`, such as 2026-12-24T18:00 (this machine's time)")
	c.Flags().StringVar(&f.players, "to-players", "", "show it to this `share` of the players, such as 10%")
	c.Flags().StringSliceVar(&f.testers, "testers", nil, "show it to these `people` only, by the names that the portal has for them")
	c.Flags().BoolVar(&f.review, "review", false, "hand it in for review")
	c.Flags().BoolVar(&f.over, "over", false, "on a site: also where a version is public that was sent later")
	c.Flags().BoolVar(&f.anyway, "accept-differences", false, "on a site: also where players get it in another form than it was sent")
	c.MarkFlagsMutuallyExclusive("password", "at", "to-players", "testers", "review")
	a.withNotice(c)
	a.withTo(c)
	a.withDryRun(c, "say what would be made public, and do nothing")
	return c
}

func (a *console) runPublish(ctx context.Context, f publishFlags) error {
	what, detail, err := f.other(time.Now())
	if err != nil {
		return err
	}
	k, err := a.desk()
	if err != nil {
		return err
	}
	k.Courier.Over, k.Courier.Anyway = f.over, f.anyway
	var now *app.Deliveries
	switch {
	case f.password:
		now, err = k.Restrict(ctx)
	case what != "":
		now, err = k.Other(ctx, what, detail)
	default:
		now, err = k.Publish(ctx)
	}
	return a.delivered(ctx, now, err)
}

// other is what is to be done instead of making it public for all, and what that needs.
func (f publishFlags) other(now time.Time) (deliver.Ability, any, error) {
	switch {
	case f.at != "":
		at, err := moment(f.at)
		if err != nil || at.Before(now) {
			example := now.Add(24 * time.Hour).Format("2006-01-02T15:04")
			return "", nil, wrong("havvel publish", "--at %s is no time to come; write it like %s", f.at, example)
		}
		return deliver.Schedule, at, nil
	case f.players != "":
		n, err := strconv.Atoi(strings.TrimSuffix(f.players, "%"))
		if err != nil || n < 1 || n > 100 || !strings.HasSuffix(f.players, "%") {
			return "", nil, wrong("havvel publish", "--to-players %s is no share of the players; write it like 10%%", f.players)
		}
		return deliver.Stage, n, nil
	case len(f.testers) > 0:
		return deliver.Testers, f.testers, nil
	case f.review:
		return deliver.Submit, nil, nil
	}
	return "", nil, nil
}

// moment reads a time: one with a zone, or one of this machine.
func moment(text string) (time.Time, error) {
	if at, err := time.Parse(time.RFC3339, text); err == nil {
		return at, nil
	}
	for _, form := range []string{"2006-01-02T15:04:05", "2006-01-02T15:04", "2006-01-02 15:04"} {
		if at, err := time.ParseInLocation(form, text, time.Local); err == nil {
			return at, nil
		}
	}
	return time.Time{}, fault.New(fault.Usage, "%q is no time", text)
}

// confirm says where somebody confirms a log-in, with a code to scan.
func (a *console) confirm(address, code string) {
	if code, err := qr.Encode(address, qr.L); err == nil && !a.json {
		fmt.Fprintln(a.err, "  "+strings.Join(blocks(code), "\n  "))
	}
	a.screen.Warn("confirm the log-in at %s with the code %s; havvel goes on by itself then", inwords.Clean(address), inwords.Clean(code))
}
