package cli

import (
	"context"
	"fmt"

	"github.com/spf13/cobra"

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
		long: "Pictures cuts what each destination wants from the masters that havvel.toml names, and draws all of it on one sheet, the " +
			"covers\n" +
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

func (a *console) runPictures(ctx context.Context, f picturesFlags) error {
	k, err := a.desk()
	if err != nil {
		return err
	}
	if f.fromTrial {
		if err := a.takeMasters(ctx, k); err != nil {
			return err
		}
		if k, err = a.desk(); err != nil { // with the masters that are named now
			return err
		}
	}
	cuts, err := k.Cut(ctx, f.sheet)
	if err != nil {
		return err
	}
	a.answer(cuts)
	leaves := cuts.Leaves.List
	for _, l := range leaves {
		many := inwords.Of(len(l.Order.Cuts), "1 picture", fmt.Sprintf("%d pictures", len(l.Order.Cuts)))
		a.screen.Line("%s  %s", a.screen.In(term.Strong, l.At.Rules.Name), a.screen.In(term.Quiet, many))
		if len(l.Order.Cuts) > 0 {
			a.showCuts(l.Order.Cuts)
		}
	}
	a.showPageFindings(cuts.Findings, len(leaves) > 1)
	switch {
	case finding.Errors(cuts.Findings) > 0:
		a.screen.Next("fix the errors, and run havvel pictures again")
		return fault.Said
	case cuts.Sheet != "":
		a.screen.Next("look at %s: would you click? Then havvel listing --page", inwords.Near(cuts.Sheet))
	default:
		a.screen.Next("havvel pictures --from-trial  (takes some of the running game)")
	}
	return nil
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
