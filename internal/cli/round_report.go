package cli

import (
	"context"
	"fmt"
	"io"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"havvel/internal/app"
	"havvel/internal/atomicfile"
	"havvel/internal/cli/term"
	"havvel/internal/disk"
	"havvel/internal/inwords"
	"havvel/internal/project"
	"havvel/internal/round"
	"havvel/internal/round/page"
)

type reportFlags struct {
	lines, table, page, against string
	simulated, share, unshare   bool
}

func (a *console) roundReport() *cobra.Command {
	var f reportFlags
	c := a.new(command{
		use: "report [ROUND]", short: "What came back", args: cobra.MaximumNArgs(1),
		long: "Report says how far testers of the last round got, or of the one named by the beginning of its id: level by level how many " +
			"reached and won\n" +
			"it, where they stopped, how often they tried and how long it took; how smoothly it ran; errors; answers. A page shows each " +
			"session, too, with its\n" +
			"clip. Against another round it says what changed, and where there were too few testers to tell. Simulated testers are never mixed in.",
		example: "  havvel round report --page report.html\n  havvel round report --against 4kq2m7",
		run:     func(ctx context.Context, args []string) error { return a.runRoundReport(ctx, args, f) },
	})
	c.Flags().StringVar(&f.page, "page", "", "write a page with plots, sessions and clips into this `file` (HTML)")
	c.Flags().BoolVar(&f.share, "share", false, "have the host show that page to those who have its link, until what came back is deleted")
	c.Flags().BoolVar(&f.unshare, "unshare", false, "take a page that the host shows back, and report nothing")
	c.Flags().StringVar(&f.lines, "lines", "", "write all events into this `file`, too, as JSON Lines")
	c.Flags().StringVar(&f.table, "table", "", "write all events into this `file`, too, as CSV")
	c.Flags().StringVar(&f.against, "against", "", "compare with an earlier `round`, named by the beginning of its id")
	c.Flags().BoolVar(&f.simulated, "simulated", false, "report simulated testers instead of people")
	a.withTo(c)
	return c
}

func (a *console) runRoundReport(ctx context.Context, args []string, f reportFlags) error {
	p, client, r, err := a.chosenRound(ctx, args)
	if err != nil {
		return err
	}
	if f.unshare {
		if err := client.Unshare(ctx, r.ID); err != nil {
			return err
		}
		a.answer(map[string]string{"round": r.ID})
		a.screen.Line("the page of this round's report is shown to nobody any more")
		return nil
	}
	back, err := gather(ctx, client, r, f)
	if err != nil {
		return err
	}
	app.Trace(ctx, p, r.Version, back.report.Errors)
	var earlier *round.Round
	var changes []round.Change
	if f.against != "" {
		if earlier, err = app.ChosenRound(ctx, client, p, []string{f.against}); err != nil {
			return err
		}
		before, err := gather(ctx, client, earlier, reportFlags{simulated: f.simulated})
		if err != nil {
			return err
		}
		changes = round.Compare(before.report, back.report)
	}
	link, err := a.pageOf(ctx, client, p, r, back, earlier, changes, f)
	if err != nil {
		return err
	}
	a.answer(struct {
		*round.Report
		Round   string         `json:"round"`
		Link    string         `json:"link,omitempty"`
		Opens   int            `json:"opens"`
		Against string         `json:"against,omitempty"`
		Changes []round.Change `json:"changes,omitempty"`
	}{back.report, r.ID, link, r.Opens, f.against, changes})
	a.showRound(p, r, back.report)
	if earlier != nil {
		a.showChanges(earlier, changes)
	}
	if link != "" {
		a.screen.Line("")
		a.screen.Line("the page of this report is at %s", inwords.Clean(link))
		words := "who has the link sees it, until " + r.Kept.Local().Format("2 January 2006") + "; --unshare takes it back"
		a.screen.Line("  %s", a.screen.In(term.Quiet, words))
	}
	a.nextOfRound(r, back.report, f)
	return nil
}

// gathered is what came back of a round.
type gathered struct {
	report *round.Report
	plays  []*round.Play // those that a page shows
	more   int
}

// gather reads what came back, session by session, and writes the files that are asked for.
func gather(ctx context.Context, client *round.Client, r *round.Round, f reportFlags) (*gathered, error) {
	var g gathered
	err := written(f.lines, func(lines io.Writer) error {
		return written(f.table, func(rows io.Writer) error { return g.read(ctx, client, r, lines, rows, f.simulated) })
	})
	return &g, err
}

// written makes a file, or nothing when it has no name.
func written(file string, write func(io.Writer) error) error {
	if file == "" {
		return write(nil)
	}
	return atomicfile.File(file, func(f disk.File) error { return write(f) })
}

func (g *gathered) read(ctx context.Context, client *round.Client, r *round.Round, lines, rows io.Writer, simulated bool) error {
	var table *round.Table
	if rows != nil {
		var err error
		if table, err = round.NewTable(rows); err != nil {
			return err
		}
	}
	out, in := io.Pipe()
	go func() {
		to := io.Writer(in)
		if lines != nil {
			to = io.MultiWriter(lines, in)
		}
		in.CloseWithError(client.Events(ctx, r.ID, to))
	}()
	maker := round.NewMaker(simulated)
	err := round.Read(ctx, out, func(s *round.Session) error {
		if play := maker.Add(s); play != nil && len(g.plays) < page.MostSessions {
			g.plays = append(g.plays, play)
		} else if play != nil {
			g.more++
		}
		if table != nil {
			return table.Add(s)
		}
		return nil
	})
	out.CloseWithError(err)
	if err == nil && table != nil {
		err = table.Close()
	}
	g.report = maker.Report()
	return err
}

func (a *console) showRound(p *project.Project, r *round.Round, x *round.Report) {
	s := a.screen
	s.Line(
		"%s  %s",
		s.In(term.Strong, fmt.Sprintf("%s %s", p.Game.Title, r.Version)),
		s.In(term.Quiet, "opened "+r.Opened.Local().Format("2 January 15:04")),
	)
	a.showTesters(r, x)
	if x.Cut+x.Unread > 0 {
		s.Line("  %s", s.In(term.Careful, lostWords(x)))
	}
	if x.Simulated > 0 && !x.OfSimulated {
		s.Line("  %s", s.In(term.Quiet, fmt.Sprintf("%d simulated; they are in none of these figures (--simulated shows them)", x.Simulated)))
	}
	a.showLevels(x)
	a.showStays(x)
	if len(x.Frames) > 0 {
		s.Line("")
		var rows [][]string
		for _, f := range x.Frames {
			within := "too few testers"
			if f.Within.Known {
				within = f.Within.Words(func(v float64) string { return amount(v, "") })
			}
			rows = append(rows, []string{f.Class, fmt.Sprint(f.Testers), amount(f.Median, ""), within, amount(f.Worst, "")})
		}
		s.Table([]string{"frames a second", "testers", "median", "at 95 %", "worst"}, rows, 1, 2, 4)
	}
	a.showErrors(x)
	for _, q := range x.Answers {
		a.showAnswers(r, q)
	}
}

// showTesters says who played, and for how long.
func (a *console) showTesters(r *round.Round, x *round.Report) {
	s := a.screen
	who := "agreed to share"
	if x.OfSimulated {
		s.Line("  %s", s.In(term.Careful, "simulated: no person played in what is shown here"))
		who = "simulated"
	}
	words := fmt.Sprintf("%s %s", inwords.Of(x.Testers, "1 tester", fmt.Sprintf("%d testers", x.Testers)), who)
	if x.Testers > 0 {
		words += fmt.Sprintf(", %d began to play %s", x.Started, x.Within.Started.Bracketed(round.Percent))
	}
	if len(x.Levels) > 0 && x.Started > 0 {
		words += fmt.Sprintf(", %d won the last level that anybody reached %s", x.Finished, x.Within.Finished.Bracketed(round.Percent))
	}
	s.Paragraph(term.Plain, "  ", "  ", words)
	if r.Opens > 0 {
		s.Line(
			"  %s",
			s.In(term.Quiet, "the page was opened "+inwords.Of(r.Opens, "once",
				fmt.Sprintf("%d times", r.Opens))+" (this counts people who shared nothing, too)"),
		)
	}
	if x.Seconds > 0 {
		words := fmt.Sprintf("half of them played %s or longer %s", seconds(x.Seconds), x.Within.Seconds.Bracketed(seconds))
		if x.Shown > 0 {
			words += fmt.Sprintf("; the first picture came after %s %s", seconds(x.Shown), x.Within.Shown.Bracketed(seconds))
		}
		if x.Pauses > 0 {
			words += fmt.Sprintf("; %d looked away during play", x.Pauses)
		}
		s.Paragraph(term.Quiet, "  ", "  ", words)
	}
	if x.Testers > 0 {
		s.Line("  %s", s.In(term.Quiet, "in brackets: where a figure lies in 95 of 100 such rounds"))
	}
}

// mostErrors are shown.
const mostErrors = 10

func (a *console) showErrors(x *round.Report) {
	s := a.screen
	for i, e := range x.Errors {
		if i == 0 {
			s.Line("")
		}
		if i == mostErrors {
			s.Line("  %s", s.In(term.Quiet, fmt.Sprintf("and %d more errors; --page and --json have all", len(x.Errors)-i)))
			break
		}
		at := ""
		if e.Source != "" {
			at = " at " + e.Source
		}
		s.Paragraph(
			term.Bad,
			"  error: ",
			"    ",
			inwords.Clean(
				fmt.Sprintf(
					"%s%s  (%s, %s)",
					e.Message,
					at,
					inwords.Of(e.Testers, "1 tester", fmt.Sprintf("%d testers", e.Testers)),
					inwords.Of(e.Times, "once", fmt.Sprintf("%d times", e.Times)),
				),
			),
		)
	}
}

// lostWords says what isn't in a report.
func lostWords(x *round.Report) string {
	var list []string
	if x.Cut > 0 {
		list = append(list, fmt.Sprintf("%d events were more than a session keeps", x.Cut))
	}
	if x.Unread > 0 {
		list = append(list, fmt.Sprintf("%d lines can't be read", x.Unread))
	}
	return "not in these figures: " + strings.Join(list, "; ")
}

// showStays prints for how long testers played, where the game says nothing of levels.
func (a *console) showStays(x *round.Report) {
	if len(x.Levels) > 0 || len(x.Stayed) == 0 {
		return
	}
	a.screen.Line("")
	var rows [][]string
	for _, y := range x.Stayed {
		rows = append(rows, []string{amount(y.Seconds, "s"), fmt.Sprint(y.Testers), y.Within.Words(round.Percent)})
	}
	a.screen.Table([]string{"played at least", "testers", "share at 95 %"}, rows, 1)
}

func (a *console) showLevels(x *round.Report) {
	if len(x.Levels) == 0 {
		return
	}
	s := a.screen
	s.Line("")
	most := 0
	for _, l := range x.Levels {
		most = max(most, l.Reached)
	}
	var rows [][]string
	for _, l := range x.Levels {
		stopped := ""
		if l.Stopped > 0 {
			stopped = s.In(term.Careful, fmt.Sprint(l.Stopped))
		}
		const wide = 16
		funnel := strings.Repeat("█", wide*l.Won/most) + s.In(term.Quiet, strings.Repeat("░", wide*l.Reached/most-wide*l.Won/most))
		rows = append(
			rows,
			[]string{
				inwords.Clean(l.Name),
				funnel,
				fmt.Sprint(l.Reached),
				fmt.Sprint(l.Won),
				stopped,
				amount(l.PerWin, ""),
				seconds(l.Seconds),
				s.In(term.Quiet, l.WonWithin.Words(round.Percent)),
				s.In(term.Careful, strings.Join(l.Hard, ", ")),
			},
		)
	}
	s.Table([]string{
		"level", "won of reached", "reached", "won", "stopped here", "tries per win", "time", "won, at 95 %", "harder by",
	}, rows, 2, 3, 4, 5, 6)
	if words := x.Words(); words != "" {
		s.Line("")
		s.Paragraph(term.Plain, "  ", "  ", inwords.Clean(words))
	}
}

// showAnswers shows what was said to a question: counted where there are choices, else as it was written.
func (a *console) showAnswers(r *round.Round, q round.Answer) {
	s := a.screen
	ask, kind := fmt.Sprintf("question %d", q.Question+1), "text"
	if q.Question < len(r.Questions) {
		ask, kind = r.Questions[q.Question].Ask, r.Questions[q.Question].Kind
	}
	s.Line("")
	s.Line("  %s  %s", inwords.Clean(ask), s.In(term.Quiet, inwords.Of(len(q.Given), "1 answer", fmt.Sprintf("%d answers", len(q.Given)))))
	if kind == "text" {
		given := q.Grouped()
		for i, g := range given {
			if i == 20 {
				s.Line("    %s", s.In(term.Quiet, fmt.Sprintf("and %d more; --page and --json have all", len(given)-i)))
				break
			}
			words := inwords.Clean(g.Words)
			if g.Times > 1 {
				words += fmt.Sprintf("  (%d times)", g.Times)
			}
			s.Paragraph(term.Plain, "    - ", "      ", words)
		}
		return
	}
	choices := r.Questions[q.Question].Choices
	if kind == "scale" {
		choices = []string{"1", "2", "3", "4", "5"}
	}
	counts := map[string]int{}
	for _, g := range q.Given {
		counts[g]++
	}
	var words []string
	for _, c := range choices {
		words = append(words, fmt.Sprintf("%s: %d", inwords.Clean(c), counts[c]))
	}
	s.Line("    %s", strings.Join(words, "   "))
}

func (a *console) showChanges(earlier *round.Round, changes []round.Change) {
	s := a.screen
	s.Line("")
	s.Line(
		"%s",
		s.In(term.Strong, fmt.Sprintf("against %s, opened %s", inwords.Clean(earlier.Version), earlier.Opened.Local().Format("2 January 15:04"))),
	)
	var rows [][]string
	unsure := 0
	for _, c := range changes {
		name, words := c.Figure, c.Words()
		if c.Level != "" {
			name = "level " + inwords.Clean(c.Level) + ": " + name
		}
		if !c.Sure {
			unsure++
			words = s.In(term.Quiet, words)
		}
		unit := map[string]string{"%": " %", "s": "s"}[c.Unit]
		rows = append(
			rows,
			[]string{
				name,
				fmt.Sprintf("%.1f%s", c.Before, unit),
				fmt.Sprintf("%.1f%s", c.After, unit),
				fmt.Sprintf("%d, %d", c.N[0], c.N[1]),
				words,
			},
		)
	}
	s.Table([]string{"figure", "before", "after", "testers", "what can be said"}, rows, 1, 2, 3)
	if unsure > 0 {
		s.Line("  %s", s.In(term.Quiet, "where it says can't tell, these testers are too few to know a change from chance"))
	}
}

// nextOfRound says what to look at: a level that stands out.
func (a *console) nextOfRound(r *round.Round, x *round.Report, f reportFlags) {
	a.screen.Line("")
	switch {
	case f.page != "":
		a.screen.Next("open %s in a browser", f.page)
	case x.Testers == 0 && r.Open:
		a.screen.Next("wait for testers; the link is %s", inwords.Clean(r.Link))
	case x.Hardest != nil && len(x.Hardest.Levels) > 0:
		a.screen.Next("look at level %s: havvel round report --page report.html shows each session", inwords.Clean(x.Hardest.Levels[0]))
	case r.Open:
		a.screen.Next("havvel round close, when it is enough")
	case x.Testers == 0:
		a.screen.Next("havvel round open, for another round")
	default:
		a.screen.Next("havvel round report --page report.html shows each session")
	}
}

// amount writes a number; nothing where there is none.
func amount(v float64, unit string) string {
	if v == 0 {
		return ""
	}
	return strings.TrimSuffix(fmt.Sprintf("%.1f", v), ".0") + unit
}

// seconds writes a length of time; nothing where there is none.
func seconds(v float64) string {
	if v >= 100 {
		return inwords.Span(time.Duration(v * float64(time.Second)))
	}
	return amount(v, "s")
}
