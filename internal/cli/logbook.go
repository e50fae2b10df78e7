package cli

import (
	"context"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"havvel/internal/cli/term"
	"havvel/internal/deliver"
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

type logbookJSON struct {
	Deliveries []logbookRow `json:"deliveries"`
}

type logbookRow struct {
	deliveryRow
	By     string       `json:"by"`
	Bytes  int64        `json:"bytes"`
	SHA256 string       `json:"sha256"`
	States []logbookWas `json:"states"`
}

type logbookWas struct {
	State string `json:"state"`
	At    string `json:"at"`
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
	all, _, err := book.Deliveries()
	if err != nil {
		return err
	}
	a.warnUnread(book)
	lines, err := book.Lines()
	if err != nil {
		return err
	}
	doc := logbookJSON{Deliveries: []logbookRow{}}
	for _, l := range slices.Backward(all) {
		if len(a.to) > 0 && !slices.Contains(a.to, l.Destination) || version != "" && l.Version != version {
			continue
		}
		var one deliveriesJSON
		one.add(&deliver.Status{Delivery: l})
		row := logbookRow{deliveryRow: one.Deliveries[0], By: l.By, Bytes: l.Bytes, SHA256: l.SHA256, States: []logbookWas{}}
		for _, line := range lines {
			if line.ID == l.ID {
				row.States = append(row.States, logbookWas{line.State, line.At.Local().Format("2006-01-02 15:04")})
			}
		}
		doc.Deliveries = append(doc.Deliveries, row)
	}
	a.answer(doc)
	a.showLogbook(doc, version)
	return nil
}

func (a *console) showLogbook(doc logbookJSON, version string) {
	s := a.screen
	if len(doc.Deliveries) == 0 {
		s.Line("nothing was sent yet")
		s.Next("havvel send")
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
				term.Clean(r.By),
				r.Fingerprint[:min(10, len(r.Fingerprint))],
			},
		)
	}
	s.Table([]string{"sent", "destination", "version", "state", "by", "export"}, rows)
}
