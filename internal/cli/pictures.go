package cli

import (
	"context"
	"fmt"
	"path/filepath"

	"github.com/spf13/cobra"

	"havvel/internal/atomicfile"
	"havvel/internal/cli/term"
	"havvel/internal/fault"
	"havvel/internal/finding"
	"havvel/internal/inwords"
	"havvel/internal/pictures"
	"havvel/internal/settings"
)

type picturesFlags struct {
	sheet     string
	fromTrial bool
}

func (a *console) pictures() *cobra.Command {
	var f picturesFlags
	c := a.new(command{
		use:   "pictures",
		short: "Cut the listing's pictures to each portal's sizes",
		long: "Pictures cuts what each destination wants from the masters that havvel.toml names, and draws all of it on one sheet, the covers\n" +
			"also as small as players see them. With --from-trial, it first takes masters from the running game: screenshots while the\n" +
			"steps of [trial] play, and a short silent clip. It ends with 1 when a portal would refuse a picture.",
		example: "  havvel pictures\n  havvel pictures --from-trial --to brackwater",
		args:    cobra.NoArgs,
		run:     func(ctx context.Context, _ []string) error { return a.runPictures(ctx, f) },
	})
	c.Flags().StringVar(&f.sheet, "sheet", "", "`file` for the sheet (in .havvel/pictures)")
	c.Flags().BoolVar(&f.fromTrial, "from-trial", false, "take screenshots and a clip of the running game first")
	a.withTo(c)
	return c
}

type picturesJSON struct {
	Pictures []*pictures.Cut   `json:"pictures"`
	Sheet    string            `json:"sheet"`
	Findings []finding.Finding `json:"findings"`
}

func (a *console) runPictures(ctx context.Context, f picturesFlags) error {
	if f.fromTrial {
		if err := a.takeMasters(ctx); err != nil {
			return err
		}
	}
	p, leaves, err := a.leaves(ctx)
	if err != nil {
		return err
	}
	doc := picturesJSON{Pictures: []*pictures.Cut{}, Findings: []finding.Finding{}}
	var orders []*pictures.Order
	var failed error
	for _, l := range leaves {
		orders, doc.Pictures = append(orders, l.order), append(doc.Pictures, l.order.Cuts...)
		for _, x := range l.findings {
			if matches(x.ID, "picture") {
				doc.Findings = append(doc.Findings, x)
			}
		}
	}
	if finding.Errors(doc.Findings) > 0 {
		failed = fault.Said
	}
	if len(doc.Pictures) > 0 {
		if doc.Sheet = f.sheet; doc.Sheet == "" {
			doc.Sheet = filepath.Join(p.Folder, ".havvel", "pictures", "sheet.png")
		}
		sheet, err := pictures.Sheet(p.Game.Title, orders)
		if err != nil {
			return err
		}
		if err := atomicfile.Bytes(doc.Sheet, sheet); err != nil {
			return err
		}
	}
	a.answer(doc)
	for _, l := range leaves {
		a.screen.Line(
			"%s  %s",
			a.screen.In(term.Strong, l.d.Rules.Name),
			a.screen.In(term.Quiet, inwords.Of(len(l.order.Cuts), "1 picture", fmt.Sprintf("%d pictures", len(l.order.Cuts)))),
		)
		if len(l.order.Cuts) > 0 {
			a.showCuts(l.order.Cuts)
		}
	}
	a.showPageFindings(doc.Findings, len(leaves) > 1)
	switch {
	case failed != nil:
		a.screen.Next("fix the errors, and run havvel pictures again")
	case doc.Sheet != "":
		a.screen.Next("look at %s: would you click? Then havvel listing --page", inwords.Near(doc.Sheet))
	default:
		a.screen.Next("havvel pictures --from-trial  (takes some of the running game)")
	}
	return failed
}

// showCuts prints pictures, a line each.
func (a *console) showCuts(cuts []*pictures.Cut) {
	var rows [][]string
	for _, c := range cuts {
		name := c.Name
		if c.Number > 1 {
			name = fmt.Sprintf("%s %d", name, c.Number)
		}
		size := "film"
		if c.Width > 0 {
			size = fmt.Sprintf("%dx%d", c.Width, c.Height)
		}
		rows = append(rows, []string{name, size, settings.Size(c.Bytes).String(), c.Master, inwords.Near(c.Path)})
	}
	a.screen.Table([]string{"  picture", "size", "weight", "from", "file"}, indentRows(rows), 1, 2)
}

func indentRows(rows [][]string) [][]string {
	for i := range rows {
		rows[i][0] = "  " + rows[i][0]
	}
	return rows
}
