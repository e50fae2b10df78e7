package cli

import (
	"context"
	"time"

	"github.com/spf13/cobra"

	"havvel/internal/app"
	"havvel/internal/release"
)

// sendFlags are what send takes besides what all commands take.
type sendFlags struct {
	app.Sending
	only      string
	notProven bool
}

func (a *console) send() *cobra.Command {
	var f sendFlags
	c := a.new(command{
		use:   "send [EXPORT]",
		short: "Upload this version",
		long: "Send checks the export, packs it, uploads it to each destination, and fills in its page there with what has changed of it. An\n" +
			"export with errors is not sent, nor one that was sent before; then only the page goes, if that has changed. Where there is a\n" +
			"browser, what is sent runs beside the export first, and what runs worse is not sent. The logbook has what was sent; havvel\n" +
			"where says what state it is in.",
		example: "  havvel send --wait\n  havvel send --to brackwater --version 0.4.1",
		args:    cobra.MaximumNArgs(1),
		run:     func(ctx context.Context, args []string) error { return a.runSend(ctx, args, f) },
	})
	c.Flags().StringVar(&f.Version, "version", "", "send it as this `version` (the one in havvel.toml)")
	c.Flags().BoolVar(&f.Again, "again", false, "send it even if this export, or this version, was sent before")
	c.Flags().StringVar(&f.only, "only", "", "send only the `build`, or only the page")
	c.RegisterFlagCompletionFunc("only", cobra.FixedCompletions([]string{"build", "page"}, cobra.ShellCompDirectiveNoFileComp))
	c.Flags().BoolVar(&f.notProven, "no-proof", false, "send it without running it beside the export (the default where HAVVEL_PROOF=off)")
	c.Flags().BoolVar(&f.Requests, "requests", false, "with --dry-run, print each request that would be made, with secrets masked")
	a.withBrowser(c, &f.Browser)
	a.withWait(c, &f.Wait, &f.Limit)
	a.withNotice(c)
	a.withChoices(c, &f.Choices)
	a.withTo(c)
	a.withDryRun(c, "check and say what would be sent, and send nothing")
	return c
}

func (a *console) withWait(c *cobra.Command, wait *bool, limit *time.Duration) {
	c.Flags().BoolVarP(wait, "wait", "w", false, "wait until the portal has decided")
	c.Flags().DurationVar(limit, "limit", 2*time.Minute, "with --wait, the longest `time` to wait")
}

func (a *console) runSend(ctx context.Context, args []string, f sendFlags) error {
	k, err := a.desk()
	if err != nil {
		return err
	}
	if f.Requests && !a.dryRun {
		return wrong("havvel send", "--requests prints what would be sent, so it goes with --dry-run")
	}
	k.Trace = &stepper{a: a, goesOn: true, doc: triedJSON{Requests: []requestJSON{}}}
	if f.only != "" {
		if err := oneOf("havvel send", "--only", f.only, "build", "page"); err != nil {
			return wrong("havvel send", "%w", err)
		}
	}
	if f.only == "page" {
		pages, err := k.SendPages(ctx, f.Again)
		return a.delivered(ctx, pages, err)
	}
	f.BuildOnly = f.only == "build"
	if f.Version, err = app.Version(k.Project, f.Version); err != nil {
		return err
	}
	_, b, err := app.Open(ctx, args, a.entry, app.Exact)
	if err != nil {
		return err
	}
	defer b.Close()
	f.Wanted, f.Release = app.ProvesByDefault() && !f.notProven || f.Browser != "", release.Version()
	sent, err := k.Send(ctx, b, f.Sending)
	return a.delivered(ctx, sent, a.refusal(k.Project, b, err))
}
