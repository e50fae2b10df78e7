package cli

import (
	"context"
	"fmt"
	"strconv"
	"time"

	"github.com/spf13/cobra"

	"havvel/internal/inwords"
	"havvel/internal/round"
)

func (a *console) roundExtend() *cobra.Command {
	var until duration
	c := a.new(command{
		use: "extend [ROUND]", short: "Keep a round open for longer", args: cobra.MaximumNArgs(1),
		long: "Extend has the last round, or the one named by the beginning of its id, end so much time from now. The day on which what came " +
			"back is\ndeleted stays, since testers were told it.",
		example: "  havvel round extend --until 3d\n  havvel round extend 4kq2m7 --until 12h",
		run: func(ctx context.Context, args []string) error {
			if until <= 0 {
				return wrong("havvel round extend", "--until says how much time it stays open, such as 3d or 12h")
			}
			_, client, r, err := a.chosenRound(ctx, args)
			if err != nil {
				return err
			}
			end, err := client.Extend(ctx, r.ID, int64(time.Duration(until)/time.Second))
			if err != nil {
				return err
			}
			a.answer(map[string]any{"round": r.ID, "until": end})
			a.screen.Line("the round of version %s is open until %s", r.Version, end.Local().Format("2 January 15:04"))
			return nil
		},
	})
	c.Flags().Var(&until, "until", "how much `time` it stays open from now, such as 3d or 12h")
	a.withTo(c)
	return c
}

func (a *console) roundPause() *cobra.Command {
	var off bool
	c := a.new(command{
		use: "pause [ROUND]", short: "Show a round to nobody for a while", args: cobra.MaximumNArgs(1),
		long: "Pause has the link of the last round, or of the one named by the beginning of its id, say that its makers have paused it, for " +
			"example while\na mistake is fixed. What testers had to send still arrives.",
		example: "  havvel round pause\n  havvel round pause --off",
		run: func(ctx context.Context, args []string) error {
			_, client, r, err := a.chosenRound(ctx, args)
			if err != nil {
				return err
			}
			if err := client.Pause(ctx, r.ID, !off); err != nil {
				return err
			}
			a.answer(map[string]any{"round": r.ID, "paused": !off})
			if off {
				a.screen.Line("the round of version %s goes on, until %s", r.Version, r.Until.Local().Format("2 January 15:04"))
				return nil
			}
			a.screen.Line("the round of version %s is paused", r.Version)
			a.screen.Next("havvel round pause --off, to go on")
			return nil
		},
	})
	c.Flags().BoolVar(&off, "off", false, "go on with it")
	a.withTo(c)
	return c
}

func (a *console) roundRemind() *cobra.Command {
	c := a.new(command{
		use: "remind [ROUND]", short: "Lines for those who were invited and haven't played", args: cobra.MaximumNArgs(1),
		long: "Remind prints, for each tester who was invited to the last round, or to the one named by the beginning of its id, and has not " +
			"played yet,\nlines to send. Havvel sends nothing itself.",
		example: "  havvel round remind\n  havvel round remind --json",
		run: func(ctx context.Context, args []string) error {
			p, client, r, err := a.chosenRound(ctx, args)
			if err != nil {
				return err
			}
			list, err := client.Invitations(ctx, r.ID)
			if err != nil {
				return err
			}
			waiting := []round.Invitation{}
			for _, one := range list {
				if !one.Played {
					waiting = append(waiting, one)
				}
			}
			a.answer(map[string]any{"round": r.ID, "invitations": waiting})
			switch {
			case len(list) == 0:
				a.showInvited(nil)
			case len(waiting) == 0:
				a.screen.Line("all who were invited have played")
			case !r.Open:
				words := inwords.Of(len(waiting), "1 of them has", fmt.Sprintf("%d of them have", len(waiting)))
				a.screen.Line("%s not played, and the round is over", words)
				return nil
			}
			for i, one := range waiting {
				if i > 0 {
					a.screen.Line("")
				}
				a.screen.Line("%s", inwords.Clean("Dear "+one.Name+","))
				a.screen.Line("%s", inwords.Clean(fmt.Sprintf("%s %s is still waiting for you, until %s:", p.Game.Title, r.Version,
					r.Until.Local().Format("2 January 15:04"))))
				a.screen.Line("%s", inwords.Clean(one.Link))
			}
			return nil
		},
	})
	a.withTo(c)
	return c
}

func (a *console) roundTexts() *cobra.Command {
	return a.new(command{
		use: "texts", short: "What testers read, to be translated", args: cobra.NoArgs,
		long: "Texts prints all that the page of a round says, as TOML with the English words: put your own language's in their place, and " +
			"give the file to\nhavvel round open --texts. What is left out is in English. A browser that asks for the language gets it; Arabic, " +
			"Hebrew and others run\nfrom right to left by themselves.",
		example: "  havvel round texts > page/de.toml\n  havvel round open --texts page/de.toml",
		run: func(context.Context, []string) error {
			texts := map[string]string{}
			a.screen.Line("language = \"de\" # the tag of yours")
			a.screen.Line("")
			a.screen.Line("[texts]")
			for _, t := range round.Texts {
				texts[t.Key] = t.English
				a.screen.Line("%s = %s", t.Key, strconv.Quote(t.English))
			}
			a.answer(map[string]any{"texts": texts})
			return nil
		},
	})
}
