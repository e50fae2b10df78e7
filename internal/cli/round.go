package cli

import (
	"bytes"
	"context"
	"fmt"
	"os"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"havvel/internal/cli/term"
	"havvel/internal/logbook"
	"havvel/internal/place"
	"havvel/internal/project"
	"havvel/internal/round"
	"havvel/internal/rulebook"
	"havvel/internal/settings"
)

func (a *app) round() *cobra.Command {
	return a.group(command{
		use: "round", short: "Playtest rounds: open, list, close, report",
		long:    "Round gives a version that was sent to a playtest host to testers, for a while, and says what came back: how far they got, where\nthey stopped, how it ran, what they answered. Testers are asked whether they agree; without that nothing is kept.",
		example: "  havvel round open --to shed --until 72h\n  havvel round report",
	}, a.roundOpen(), a.roundList(), a.roundClose(), a.roundReport())
}

// playtests is the destination that is a playtest host, and what speaks to it.
func (a *app) playtests() (*project.Project, *project.Destination, *round.Client, error) {
	p, destinations, err := a.destinations()
	if err != nil {
		return nil, nil, nil, err
	}
	var hosts []*project.Destination
	for _, d := range destinations {
		if d.Rules.Rounds {
			hosts = append(hosts, d)
		}
	}
	switch {
	case len(hosts) == 0:
		return nil, nil, nil, &usage{"none of these destinations is a playtest host; havvel host runs one, and says what to write into " + project.Name, "havvel round"}
	case len(hosts) > 1:
		return nil, nil, nil, &usage{fmt.Sprintf("there are %d playtest hosts; name one with --to", len(hosts)), "havvel round"}
	}
	key, err := hosts[0].Secret()
	return p, hosts[0], &round.Client{Address: hosts[0].Address, Token: key}, err
}

type roundFlags struct {
	version, questions, lines string
	until                     time.Duration
	most                      int
	password                  bool
}

func (a *app) roundOpen() *cobra.Command {
	var f roundFlags
	c := a.new(command{
		use: "open", short: "Give a version to testers", args: cobra.NoArgs,
		long:    "Open opens a round of the last version that was sent to the host, and prints its link, lines to paste, and a code for phones. It ends\nby itself. Questions for afterwards come from a TOML file of [[question]] with ask, kind (scale, choice or text) and choices.",
		example: "  havvel round open --until 72h --most 10\n  havvel round open --questions page/questions.toml --password",
		run:     func(ctx context.Context, _ []string) error { return a.runRoundOpen(ctx, f) },
	})
	c.Flags().StringVar(&f.version, "version", "", "this `version` (the last one that was sent)")
	c.Flags().DurationVar(&f.until, "until", 7*24*time.Hour, "how much `time` it stays open")
	c.Flags().IntVar(&f.most, "most", 0, "the most testers; 0 for any number")
	c.Flags().StringVar(&f.questions, "questions", "", "`file` with questions for afterwards")
	c.Flags().BoolVar(&f.password, "password", false, "ask testers for a password, which is asked for here, or read from standard input")
	a.withTo(c)
	a.withJSON(c)
	a.withDryRun(c, "say what would be opened, and open nothing")
	return c
}

func (a *app) runRoundOpen(ctx context.Context, f roundFlags) error {
	p, d, client, err := a.playtests()
	if err != nil {
		return err
	}
	l, err := a.toPlay(p, d, f.version)
	if err != nil {
		return err
	}
	o := round.Opening{Build: l.Values["id"], Seconds: int64(f.until / time.Second), Most: f.most}
	if o.Questions, err = questions(f.questions); err != nil {
		return err
	}
	if a.dryRun {
		a.screen.Line("a round of version %s would open on %s for %s, with %s", l.Version, d.Rules.Name, term.Span(f.until), does(len(o.Questions), "1 question", fmt.Sprintf("%d questions", len(o.Questions))))
		return nil
	}
	if f.password {
		if o.Password, err = a.secret("password of the round"); err != nil {
			return err
		}
	}
	opened, err := client.Open(ctx, o)
	if err != nil {
		return err
	}
	if a.json {
		return a.screen.JSON(opened)
	}
	s := a.screen
	s.Line("%s  %s", s.In(term.Strong, "a round of version "+l.Version+" is open"), s.In(term.Quiet, opened.ID))
	s.Line("")
	s.Line("Play %s %s in your browser, and tell us how it went:", p.Game.Title, l.Version)
	s.Line("%s", term.Clean(opened.Link))
	s.Line("It is open until %s.", time.Now().Add(f.until).Format("2 January 15:04"))
	a.code(opened.Link)
	s.Next("paste these lines to your testers; then havvel round report")
	return nil
}

// toPlay is the delivery of a version to a host, or the last one.
func (a *app) toPlay(p *project.Project, d *project.Destination, version string) (*logbook.Delivery, error) {
	all, _, err := a.courier(p).Book.Deliveries()
	if err != nil {
		return nil, err
	}
	for i := len(all) - 1; i >= 0; i-- {
		if l := all[i]; l.Destination == d.Name && l.State != rulebook.Refused && (version == "" || l.Version == version) {
			return l, nil
		}
	}
	what := "nothing"
	if version != "" {
		what = "no version " + version
	}
	return nil, &notReady{fmt.Sprintf("%s was sent to %s yet\n  havvel send --to %s sends this version", what, d.Name, d.Name)}
}

// questions reads those for afterwards.
func questions(file string) ([]round.Question, error) {
	if file == "" {
		return nil, nil
	}
	data, err := os.ReadFile(file)
	if err != nil {
		return nil, &usage{fmt.Sprintf("--questions: %v", err), "havvel round open"}
	}
	var in struct {
		Questions []round.Question `toml:"question"`
	}
	if err := settings.Read(file, data, &in); err != nil {
		return nil, err
	}
	for _, q := range in.Questions {
		if err := q.Verify(); err != nil {
			return nil, &settings.Problem{File: file, Message: err.Error()}
		}
	}
	return in.Questions, nil
}

func (a *app) roundList() *cobra.Command {
	c := a.new(command{
		use: "list", short: "Which rounds there are", args: cobra.NoArgs,
		long:    "List shows the rounds of this game, the last first, with how many testers agreed to be watched.",
		example: "  havvel round list\n  havvel round list --json",
		run: func(ctx context.Context, _ []string) error {
			p, _, client, err := a.playtests()
			if err != nil {
				return err
			}
			list, err := client.List(ctx, p.Game.Short)
			if err != nil {
				return err
			}
			if a.json {
				return a.screen.JSON(map[string]any{"rounds": append([]round.Round{}, list...)})
			}
			if len(list) == 0 {
				a.screen.Line("there was no round of this game yet")
				a.screen.Next("havvel round open")
				return nil
			}
			var rows [][]string
			for _, r := range list {
				state := a.screen.In(term.Quiet, "over")
				if r.Open {
					state = a.screen.In(term.Good, "open until "+r.Until.Local().Format("2 Jan 15:04"))
				}
				rows = append(rows, []string{r.ID[:min(8, len(r.ID))], term.Clean(r.Version), state, fmt.Sprint(r.Sessions), term.Clean(r.Link)})
			}
			a.screen.Table([]string{"round", "version", "state", "testers", "link"}, rows, 3)
			return nil
		},
	})
	a.withTo(c)
	a.withJSON(c)
	return c
}

// chosen is the round whose id begins so, or the last one.
func chosen(ctx context.Context, client *round.Client, p *project.Project, args []string) (*round.Round, error) {
	list, err := client.List(ctx, p.Game.Short)
	if err != nil {
		return nil, err
	}
	for i := range list {
		if len(args) == 0 || strings.HasPrefix(list[i].ID, args[0]) {
			return &list[i], nil
		}
	}
	if len(args) == 0 {
		return nil, &notReady{"there was no round of this game yet\n  havvel round open opens one"}
	}
	return nil, &usage{fmt.Sprintf("there is no round %q; havvel round list shows which there are", args[0]), "havvel round"}
}

func (a *app) roundClose() *cobra.Command {
	c := a.new(command{
		use: "close [ROUND]", short: "End a round at once", args: cobra.MaximumNArgs(1),
		long:    "Close ends the last round, or the one named by the beginning of its id: its link shows nothing any more. What came back stays.",
		example: "  havvel round close\n  havvel round close 4kq2m7",
		run: func(ctx context.Context, args []string) error {
			p, _, client, err := a.playtests()
			if err != nil {
				return err
			}
			r, err := chosen(ctx, client, p, args)
			if err != nil {
				return err
			}
			if err := client.Close(ctx, r.ID); err != nil {
				return err
			}
			a.screen.Line("the round of version %s is closed; %s", r.Version, does(r.Sessions, "1 tester took part", fmt.Sprintf("%d testers took part", r.Sessions)))
			a.screen.Next("havvel round report")
			return nil
		},
	})
	a.withTo(c)
	return c
}

func (a *app) roundReport() *cobra.Command {
	var f roundFlags
	c := a.new(command{
		use: "report [ROUND]", short: "What came back", args: cobra.MaximumNArgs(1),
		long:    "Report says how far testers of the last round got, or of the one named by the beginning of its id: level by level how many reached and won\nit, where they stopped, how often they tried and how long it took; how smoothly it ran; errors; answers. Simulated testers are counted apart.",
		example: "  havvel round report\n  havvel round report 4kq2m7 --lines round.jsonl",
		run:     func(ctx context.Context, args []string) error { return a.runRoundReport(ctx, args, f) },
	})
	c.Flags().StringVar(&f.lines, "lines", "", "write all events into this `file`, too, as JSON Lines")
	a.withTo(c)
	a.withJSON(c)
	return c
}

func (a *app) runRoundReport(ctx context.Context, args []string, f roundFlags) error {
	p, _, client, err := a.playtests()
	if err != nil {
		return err
	}
	r, err := chosen(ctx, client, p, args)
	if err != nil {
		return err
	}
	var lines bytes.Buffer
	if err := client.Events(ctx, r.ID, &lines); err != nil {
		return err
	}
	if f.lines != "" {
		if err := place.Bytes(f.lines, lines.Bytes()); err != nil {
			return err
		}
	}
	sessions, err := round.Read(&lines)
	if err != nil {
		return err
	}
	report := round.Make(sessions)
	if a.json {
		return a.screen.JSON(report)
	}
	a.showRound(p, r, report)
	return nil
}

func (a *app) showRound(p *project.Project, r *round.Round, x *round.Report) {
	s := a.screen
	s.Line("%s  %s", s.In(term.Strong, fmt.Sprintf("%s %s", p.Game.Title, r.Version)), s.In(term.Quiet, "opened "+r.Opened.Local().Format("2 January 15:04")))
	words := fmt.Sprintf("%s agreed to be watched, %d began to play", does(x.Testers, "1 tester", fmt.Sprintf("%d testers", x.Testers)), x.Started)
	if len(x.Levels) > 0 {
		words += fmt.Sprintf(", %d won the last level that anybody reached", x.Finished)
	}
	s.Line("  %s", words)
	if x.Simulated > 0 {
		s.Line("  %s", s.In(term.Quiet, fmt.Sprintf("%d simulated; they are in none of these figures", x.Simulated)))
	}
	if len(x.Levels) > 0 {
		s.Line("")
		var rows [][]string
		for _, l := range x.Levels {
			stopped := ""
			if l.Stopped > 0 {
				stopped = s.In(term.Careful, fmt.Sprint(l.Stopped))
			}
			rows = append(rows, []string{term.Clean(l.Name), fmt.Sprint(l.Reached), fmt.Sprint(l.Won), stopped, amount(l.Tries, ""), amount(l.Seconds, " s")})
		}
		s.Table([]string{"level", "reached", "won", "stopped here", "tries", "time"}, rows, 1, 2, 3, 4, 5)
	}
	if len(x.Frames) > 0 {
		s.Line("")
		var rows [][]string
		for _, f := range x.Frames {
			rows = append(rows, []string{f.Class, fmt.Sprint(f.Testers), amount(f.Median, ""), amount(f.Worst, "")})
		}
		s.Table([]string{"frames a second", "testers", "median", "worst"}, rows, 1, 2, 3)
	}
	for i, e := range x.Errors {
		if i == 0 {
			s.Line("")
		}
		s.Paragraph(term.Bad, "  error: ", "    ", term.Clean(fmt.Sprintf("%s  (%s, %s)", e.Message, does(e.Testers, "1 tester", fmt.Sprintf("%d testers", e.Testers)), does(e.Times, "once", fmt.Sprintf("%d times", e.Times)))))
	}
	for _, q := range x.Answers {
		s.Line("")
		s.Line("  question %d: %s", q.Question+1, does(len(q.Given), "1 answer", fmt.Sprintf("%d answers", len(q.Given))))
		for _, g := range q.Given {
			s.Paragraph(term.Plain, "    - ", "      ", term.Clean(g))
		}
	}
	a.nextOfRound(r, x)
}

// nextOfRound says what to look at: the level at which most stopped.
func (a *app) nextOfRound(r *round.Round, x *round.Report) {
	worst := round.Level{}
	for _, l := range x.Levels {
		if l.Stopped > worst.Stopped {
			worst = l
		}
	}
	a.screen.Line("")
	switch {
	case x.Testers == 0 && r.Open:
		a.screen.Next("wait for testers; the link is %s", term.Clean(r.Link))
	case worst.Stopped > 0:
		a.screen.Next("look at level %s, where %s stopped", term.Clean(worst.Name), does(worst.Stopped, "1 tester", fmt.Sprintf("%d testers", worst.Stopped)))
	default:
		a.screen.Next("havvel round close, when it is enough")
	}
}

// amount writes a median; nothing where there is none.
func amount(v float64, unit string) string {
	if v == 0 {
		return ""
	}
	return strings.TrimSuffix(fmt.Sprintf("%.1f", v), ".0") + unit
}
