package cli

import (
	"context"
	"fmt"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"havvel/internal/app"
	"havvel/internal/cli/term"
	"havvel/internal/hosting/server"
	"havvel/internal/inwords"
	"havvel/internal/logbook"
	"havvel/internal/rulebook"
)

func (a *console) where() *cobra.Command {
	var f whereFlags
	c := a.new(command{
		use:   "where",
		short: "Every destination, its version, state and link",
		long: "Where asks each destination for the state of the last version that was sent, and shows it; and the public one, where that\n" +
			"is another. With --wait it asks until the portal has decided; with --live it fetches what players get, and compares every\n" +
			"file with what was sent; with --share it prints lines to paste. A destination that can't be reached is shown as the logbook has it.\n" +
			"With --server it writes the lines with which a site's web server serves the build as it needs to be.",
		example: "  havvel where\n  havvel where --wait --to brackwater",
		args:    cobra.NoArgs,
		run:     func(ctx context.Context, _ []string) error { return a.runWhere(ctx, f) },
	})
	a.withWait(c, &f.wait, &f.limit)
	c.Flags().BoolVar(&f.all, "all", false, "list all versions that the destinations have, also those that others sent")
	c.Flags().BoolVar(&f.live, "live", false, "fetch what players get, and compare it with what was sent")
	c.Flags().BoolVar(&f.share, "share", false, "print lines with the link to paste, and a code for phones")
	c.Flags().StringVar(&f.server, "server", "",
		"of a site: write the lines that this `web server` needs: "+strings.Join(server.Names(), ", "))
	c.Flags().BoolVar(&f.password, "password", false, "with --share, tell the page's password, too; with --server, have it asked for")
	c.MarkFlagsMutuallyExclusive("server", "share", "all", "live", "wait")
	a.withNotice(c)
	a.withTo(c)
	a.withDryRun(c, "show what the logbook knows, and ask nobody")
	return c
}

type whereFlags struct {
	wait, all, live, share, password bool
	limit                            time.Duration
	server                           string
}

func (a *console) runWhere(ctx context.Context, f whereFlags) error {
	k, err := a.desk()
	if err != nil {
		return err
	}
	switch {
	case f.all:
		return a.runWhereAll(ctx, k)
	case f.server != "":
		return a.runWhereServer(ctx, k, f)
	}
	a.warnUnread(k.Courier.Book)
	how := app.Asking{Live: f.live}
	if f.wait {
		how.Limit = f.limit
	}
	now, err := k.Where(ctx, how)
	if now != nil && f.share {
		now.Next = nil
		for _, d := range now.List {
			if d.State != rulebook.Replaced && d.State != rulebook.Withdrawn {
				a.share(k.Project, d.Status, f.password)
			}
		}
	}
	return a.delivered(ctx, now, err)
}

func (a *console) runWhereAll(ctx context.Context, k *app.Desk) error {
	all, err := k.All(ctx)
	var rows [][]string
	for _, at := range all.Destinations {
		for _, v := range at.Versions {
			rows = append(rows, []string{at.Destination, inwords.Clean(v.Version), a.screen.In(toneOf(v.State), inwords.Clean(v.State))})
		}
	}
	a.answer(all)
	if len(rows) > 0 {
		a.screen.Table([]string{"destination", "version", "state"}, rows)
	} else if err == nil {
		a.screen.Line("no version is there")
	}
	return err
}

// showWhere prints where all deliveries stand, and what pages lack.
func (a *console) showWhere(e app.Standing) {
	s := a.screen
	var rows [][]string
	for _, d := range e.Destinations {
		sent := false
		for _, st := range e.Statuses {
			if st.Destination != d.Name {
				continue
			}
			sent = true
			link := inwords.Clean(st.Link())
			if link == "" {
				link = s.In(term.Quiet, app.NoLink(d))
			}
			rows = append(rows, []string{d.Name, st.Version, s.In(toneOf(st.State), st.State), when(st.At), inwords.Clean(st.By), link})
		}
		if !sent {
			rows = append(rows, []string{d.Name, "", s.In(term.Quiet, "nothing sent"), "", "", ""})
		}
	}
	s.Table([]string{"destination", "version", "state", "since", "by", "link"}, rows)
	for _, st := range e.Statuses {
		for _, r := range st.Reasons {
			s.Paragraph(term.Plain, "  "+st.Destination+": ", "    ", inwords.Clean(r))
		}
		if st.Note != "" {
			s.Paragraph(term.Careful, "  "+st.Destination+": ", "    ", inwords.Clean(st.Note))
		}
	}
	for _, d := range e.Destinations {
		if list := e.Lacks[d.Name]; len(list) > 0 {
			lacks := strings.Join(list, ", ")
			s.Paragraph(term.Careful, "  ", "    ",
				fmt.Sprintf("the page on %s lacks: %s  (havvel listing --show %s)", d.Rules.Name, lacks, d.Name))
		}
	}
}

// toFlags are the flags with which the command line named its destinations.
func (a *console) toFlags() string {
	if len(a.to) == 0 {
		return ""
	}
	return " --to " + strings.Join(a.to, " --to ")
}

// when says a time of the recent past briefly.
func when(t time.Time) string {
	if time.Since(t) < 20*time.Hour {
		return t.Local().Format("15:04")
	}
	return t.Local().Format("2 Jan 15:04")
}

func (a *console) warnUnread(book *logbook.Book) {
	if _, unread, err := book.Deliveries(); err == nil && unread > 0 {
		a.screen.Warn(
			"%d %s of the logbook can't be read and %s passed over; a crash or a merge may have broken %s",
			unread,
			inwords.Of(unread, "line", "lines"),
			inwords.Of(unread, "is", "are"),
			inwords.Of(unread, "it", "them"),
		)
	}
}
