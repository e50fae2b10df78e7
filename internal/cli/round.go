package cli

import (
	"context"
	"fmt"
	"time"

	"github.com/spf13/cobra"

	"havvel/internal/app"
	"havvel/internal/cli/term"
	"havvel/internal/inwords"
	"havvel/internal/logbook"
	"havvel/internal/project"
	"havvel/internal/round"
)

func (a *console) round() *cobra.Command {
	return a.group(command{
		use: "round", short: "Playtest rounds: open, list, close, report",
		long: "Round gives a version that was sent to a playtest host to testers, for a while, and says what came back: how far they " +
			"got, where\nthey stopped, how it ran, what they answered. Testers are asked whether they agree; without that nothing is kept.",
		example: "  havvel round open --to shed --until 3d\n  havvel round report",
	}, a.roundOpen(), a.roundList(), a.roundTexts(), a.roundInvited(), a.roundRemind(), a.roundExtend(), a.roundPause(), a.roundClose(),
		a.roundReport())
}

// playtests is the destination that is a playtest host, and what speaks to it.
func (a *console) playtests() (*project.Project, *project.Destination, *round.Client, error) {
	p, destinations, err := a.destinations()
	if err != nil {
		return nil, nil, nil, err
	}
	d, client, err := app.PlaytestHost(destinations)
	return p, d, client, err
}

type roundFlags struct {
	version, questions string
	invite             string
	webhook            string
	texts              []string
	until, keep        duration
	most               int
	password, record   bool
}

func (a *console) roundOpen() *cobra.Command {
	f := roundFlags{until: duration(7 * 24 * time.Hour)}
	c := a.new(command{
		use: "open", short: "Give a version to testers", args: cobra.NoArgs,
		long: "Open opens a round of the last version that was sent to the host, and prints its link, lines to paste, and a code for " +
			"phones. It ends\nby itself. Questions for afterwards come from a TOML file of [[question]] with ask, kind (scale, choice or text) " +
			"and choices.",
		example: "  havvel round open --until 3d --most 10\n  havvel round open --questions page/questions.toml --password",
		run:     func(ctx context.Context, _ []string) error { return a.runRoundOpen(ctx, f) },
	})
	c.Flags().StringVar(&f.version, "version", "", "this `version` (the last one that was sent)")
	c.Flags().Var(&f.until, "until", "how much `time` it stays open, such as 3d or 12h")
	c.Flags().IntVar(&f.most, "most", 0, "the most testers; 0 for any number")
	c.Flags().StringVar(&f.questions, "questions", "", "`file` with questions for afterwards")
	c.Flags().StringSliceVar(&f.texts, "texts", nil,
		"`file` with what testers read in another language, which havvel round texts begins; repeated for several")
	c.Flags().StringVar(&f.webhook, "webhook", "",
		"`address` that is told of the first error, and of the last tester, where the host allows it")
	c.Flags().StringVar(&f.invite, "invite", "", "`file` with a name on each line: each gets a link, and nobody else plays")
	c.Flags().BoolVar(&f.record, "record", false, "ask testers for a clip of the game, too; each may say no to it")
	c.Flags().Var(&f.keep, "keep", "how much `time` after its end what came back is kept; testers read the day (as long as the host keeps it)")
	c.Flags().BoolVar(&f.password, "password", false, "ask testers for a password, which is asked for here, or read from standard input")
	a.withTo(c)
	a.withDryRun(c, "say what would be opened, and open nothing")
	return c
}

func (a *console) runRoundOpen(ctx context.Context, f roundFlags) error {
	p, d, client, err := a.playtests()
	if err != nil {
		return err
	}
	l, err := app.ToPlay(a.courier(p), d, f.version)
	if err != nil {
		return err
	}
	o, err := f.opening(p, d, l)
	if err != nil {
		return err
	}
	a.answer(map[string]any{"version": l.Version, "destination": d.Name})
	if a.dryRun {
		a.screen.Line(
			"a round of version %s would open on %s for %s, with %s",
			l.Version,
			d.Rules.Name,
			inwords.Span(time.Duration(f.until)),
			inwords.Of(len(o.Questions), "1 question", fmt.Sprintf("%d questions", len(o.Questions))),
		)
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
	a.answer(opened)
	a.showOpened(p.Game.Title, l.Version, opened)
	return nil
}

// opening is a round as the flags and the project want it.
func (f roundFlags) opening(p *project.Project, d *project.Destination, l *logbook.Delivery) (o round.Opening, err error) {
	o = round.Opening{
		Build:    l.Values.Text("id"),
		Seconds:  int64(time.Duration(f.until) / time.Second),
		Keep:     int64(time.Duration(f.keep) / time.Second),
		Most:     f.most,
		Record:   f.record,
		Controls: app.Controls(p.ListingFor(d)),
		Webhook:  f.webhook,
		Studio:   p.Game.Studio,
		Contact:  p.ListingFor(d).Contact,
	}
	if o.Questions, err = app.Questions(f.questions); err != nil {
		return o, err
	}
	if o.Texts, err = app.Translations(f.texts); err != nil {
		return o, err
	}
	o.Invited, err = app.Invited(f.invite)
	return o, err
}

// showOpened shows what to give to testers.
func (a *console) showOpened(title, version string, opened *round.Opened) {
	s := a.screen
	s.Line("%s  %s", s.In(term.Strong, "a round of version "+version+" is open"), s.In(term.Quiet, opened.ID))
	s.Line("")
	s.Line("Play %s %s in your browser, and tell us how it went:", title, version)
	if len(opened.Invitations) == 0 {
		s.Line("%s", inwords.Clean(opened.Link))
	}
	s.Line("It is open until %s.", opened.Until.Local().Format("2 January 15:04"))
	if len(opened.Invitations) > 0 {
		s.Line("")
		var rows [][]string
		for _, one := range opened.Invitations {
			rows = append(rows, []string{inwords.Clean(one.Name), inwords.Clean(one.Link)})
		}
		s.Table([]string{"for", "link"}, rows)
	} else {
		a.code(opened.Link)
	}
	s.Line("")
	s.Line("  %s", s.In(term.Quiet, "what comes back is deleted on "+opened.Kept.Local().Format("2 January 2006")))
	if len(opened.Invitations) > 0 {
		s.Next("send each of them their own link; havvel round invited says who played")
		return
	}
	s.Next("paste these lines to your testers; then havvel round report")
}

func (a *console) roundInvited() *cobra.Command {
	c := a.new(command{
		use: "invited [ROUND]", short: "What those who were invited did", args: cobra.MaximumNArgs(1),
		long: "Invited says of each tester of a round with invitations whether they opened their link, played and answered. A tester who " +
			"plays without\nsharing is not among those who played.",
		example: "  havvel round open --invite friends.txt\n  havvel round invited",
		run: func(ctx context.Context, args []string) error {
			_, client, r, err := a.chosenRound(ctx, args)
			if err != nil {
				return err
			}
			list, err := client.Invitations(ctx, r.ID)
			if err != nil {
				return err
			}
			a.answer(map[string]any{"round": r.ID, "invitations": append([]round.Invitation{}, list...)})
			a.showInvited(list)
			return nil
		},
	})
	a.withTo(c)
	return c
}

func (a *console) showInvited(list []round.Invitation) {
	s := a.screen
	if len(list) == 0 {
		s.Line("nobody was invited to this round by name; all who have its link can play")
		return
	}
	mark := func(yes bool) string {
		if yes {
			return s.In(term.Good, "yes")
		}
		return ""
	}
	var rows [][]string
	for _, one := range list {
		rows = append(rows, []string{
			inwords.Clean(one.Name), mark(one.Opened > 0), mark(one.Played), mark(one.Answered), inwords.Clean(one.Link),
		})
	}
	s.Table([]string{"for", "opened", "played", "answered", "link"}, rows)
}

func (a *console) roundList() *cobra.Command {
	c := a.new(command{
		use: "list", short: "List rounds", args: cobra.NoArgs,
		long:    "List shows the rounds of this game, the last first, with how many testers agreed to share.",
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
			a.answer(map[string]any{"rounds": append([]round.Round{}, list...)})
			if len(list) == 0 {
				a.screen.Line("there was no round of this game yet")
				a.screen.Next("havvel round open")
				return nil
			}
			var rows [][]string
			for _, r := range list {
				state := a.screen.In(term.Quiet, "over")
				switch {
				case r.Paused && r.Open:
					state = a.screen.In(term.Careful, "paused")
				case r.Open:
					state = a.screen.In(term.Good, "open until "+r.Until.Local().Format("2 Jan 15:04"))
				}
				rows = append(rows, []string{r.ID[:min(8, len(r.ID))], inwords.Clean(r.Version), state, testersOf(r), inwords.Clean(r.Link)})
			}
			a.screen.Table([]string{"round", "version", "state", "testers", "link"}, rows, 3)
			return nil
		},
	})
	a.withTo(c)
	return c
}

func testersOf(r round.Round) string {
	if r.Simulated > 0 {
		return fmt.Sprintf("%d (%d simulated)", r.Sessions, r.Simulated)
	}
	return fmt.Sprint(r.Sessions)
}

// chosenRound is the round that arguments name, and what speaks to its host.
func (a *console) chosenRound(ctx context.Context, args []string) (*project.Project, *round.Client, *round.Round, error) {
	p, _, client, err := a.playtests()
	if err != nil {
		return nil, nil, nil, err
	}
	r, err := app.ChosenRound(ctx, client, p, args)
	return p, client, r, err
}

func (a *console) roundClose() *cobra.Command {
	var forget bool
	c := a.new(command{
		use: "close [ROUND]", short: "End a round at once", args: cobra.MaximumNArgs(1),
		long: "Close ends the last round, or the one named by the beginning of its id: its link shows nothing any more. What came back " +
			"stays for as\nlong as testers were told, unless it is to be forgotten at once.",
		example: "  havvel round close\n  havvel round close 4kq2m7 --forget",
		run:     func(ctx context.Context, args []string) error { return a.runRoundClose(ctx, args, forget) },
	})
	c.Flags().BoolVar(&forget, "forget", false, "delete all that came back, too")
	a.withTo(c)
	return c
}

func (a *console) runRoundClose(ctx context.Context, args []string, forget bool) error {
	_, client, r, err := a.chosenRound(ctx, args)
	if err != nil {
		return err
	}
	a.answer(map[string]any{"round": r.ID, "version": r.Version, "sessions": r.Sessions, "forgotten": forget})
	if forget {
		n, err := client.Forget(ctx, r.ID)
		if err != nil {
			return err
		}
		words := inwords.Of(n, "the one session is deleted", fmt.Sprintf("all %d sessions are deleted", n))
		if n == 0 {
			words = "nothing had come back"
		}
		a.screen.Line("the round of version %s is closed, and %s", r.Version, words)
		return nil
	}
	if err := client.Close(ctx, r.ID); err != nil {
		return err
	}
	a.screen.Line(
		"the round of version %s is closed; %s",
		r.Version,
		inwords.Of(r.Sessions, "1 tester took part", fmt.Sprintf("%d testers took part", r.Sessions)),
	)
	a.screen.Next("havvel round report")
	return nil
}
