package cli

import (
	"context"
	"strings"

	"github.com/spf13/cobra"

	"havvel/internal/app"
	"havvel/internal/inwords"
	"havvel/internal/logbook"
)

func (a *console) logbook() *cobra.Command {
	var version string
	c := a.new(command{
		use:   "logbook",
		short: "The history of deliveries",
		long: "Logbook lists what was sent where, by whom, and its states, the last first. It asks nobody: havvel where does.\n" +
			"The file is .havvel/logbook.jsonl, and can be shared in version control: two people's histories may be merged line by line.",
		example: "  havvel logbook\n  havvel logbook --to brackwater --version 0.4.0",
		args:    cobra.NoArgs,
		run:     func(_ context.Context, _ []string) error { return a.runLogbook(version) },
	})
	c.Flags().StringVar(&version, "version", "", "only this `version`, with everything that became of it")
	a.withTo(c)
	return c
}

func (a *console) runLogbook(version string) error {
	p, err := a.project()
	if err != nil {
		return err
	}
	if _, err := p.Destinations(a.to); err != nil {
		return err
	}
	book := logbook.Open(p.Folder)
	a.warnUnread(book)
	past, err := app.HistoryOf(book, a.to, version)
	if err != nil {
		return err
	}
	a.answer(past)
	a.showLogbook(past, version)
	return nil
}

func (a *console) showLogbook(doc *app.History, version string) {
	s := a.screen
	if len(doc.Deliveries) == 0 {
		switch {
		case doc.Unread > 0:
			s.Line("no delivery in the logbook can be read, so what was sent can't be told")
		case version != "":
			s.Line("version %s was not sent", version)
		default:
			s.Line("nothing was sent yet")
			s.Next("havvel send")
		}
		return
	}
	var rows [][]string
	for _, r := range doc.Deliveries {
		first := r.States[0]
		became := r.State
		if version != "" {
			var parts []string
			for _, was := range r.States {
				parts = append(parts, was.State+" "+was.At[11:])
			}
			became = strings.Join(parts, ", ")
		}
		rows = append(
			rows,
			[]string{
				first.At,
				r.Destination,
				r.Version,
				s.In(toneOf(r.State), became),
				inwords.Clean(r.By),
				r.Fingerprint[:min(10, len(r.Fingerprint))],
			},
		)
	}
	s.Table([]string{"sent", "destination", "version", "state", "by", "export"}, rows)
}
