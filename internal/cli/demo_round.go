package cli

import (
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"slices"
	"time"

	"golang.org/x/sync/errgroup"

	"havvel/internal/browser"
	"havvel/internal/cli/term"
	"havvel/internal/demo"
	"havvel/internal/demo/testers"
	"havvel/internal/playhost"
	"havvel/internal/round"
	"havvel/internal/standin"
)

// The testers of the example.
const (
	demoTesters  = 14 // by events
	demoSeed     = 11
	demoBrowsing = 18 * time.Second // how long each of the two in a browser plays
)

func (a *console) runDemoRound(ctx context.Context, folder string, stay bool) (err error) {
	s := a.screen
	if a.dryRun {
		a.planned(slices.Concat(demo.RoundBegun(), demo.RoundEnded()))
		return nil
	}
	host, key, err := demoHost(ctx, folder)
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, host.Stop(3*time.Second)) }()
	walk := func(stops []demo.Stop) error {
		for _, stop := range stops {
			stop.Env = []string{"SHED_KEY=" + key}
			if err := a.stop(ctx, folder, stop); err != nil {
				return err
			}
		}
		return nil
	}
	s.Line(
		"The game Tinderwick Lane is in %s; a playtest host is on this machine, the Shed at %s.",
		s.In(term.Strong, folder),
		host.ControlURL(),
	)
	s.Line("These are the commands as you would type them in that folder, and what they print:")
	if err := walk(demo.RoundBegun()); err != nil {
		return err
	}
	list, err := (&round.Client{Address: host.ControlURL(), Token: key}).List(ctx, "tinderwick-lane")
	if err != nil || len(list) == 0 {
		return errors.Join(errors.New("the round of the demo is not there"), err)
	}
	if err := a.demoPlayed(ctx, testers.Link(&round.Opened{ID: list[0].ID, Link: list[0].Link})); err != nil {
		return err
	}
	if err := walk(demo.RoundEnded()); err != nil {
		return err
	}
	s.Line("")
	a.tell(map[string]string{"event": "report", "file": filepath.Join(folder, demo.ReportFile), "link": list[0].Link})
	s.Line("%s %s", s.In(term.Good, "What came back, as a page:"), s.In(term.Strong, filepath.Join(folder, demo.ReportFile)))
	if !stay {
		s.Next("open the page in a browser; havvel demo --round --stay leaves the host up, so that you can play, too")
		return nil
	}
	s.Next("open %s and play; then, in %s: SHED_KEY=%s havvel round report. The host stays up until Ctrl-C", list[0].Link, folder, key)
	<-ctx.Done()
	s.Line("")
	s.Line("The host is closed; the project stays in %s.", folder)
	return nil
}

// demoHost starts the Shed, and writes the project, which names it.
func demoHost(ctx context.Context, folder string) (*playhost.Host, string, error) {
	// The project names all portals; none of them is asked.
	addresses, err := demo.Addresses("127.0.0.1:7411")
	if err != nil {
		return nil, "", err
	}
	at, err := standin.FreeAddress()
	if err != nil {
		return nil, "", err
	}
	addresses["shed"] = "http://" + at
	if err := demo.Write(folder, addresses); err != nil { // before the host, whose data of an earlier demo it clears
		return nil, "", err
	}
	host, err := playhost.Start(playhost.Options{Data: filepath.Join(folder, demo.PortalFolder, "shed"), Control: at, Games: "127.0.0.1:0"})
	if err != nil {
		return nil, "", err
	}
	key, err := host.MakeToken(ctx, "moth")
	if err != nil {
		return nil, "", errors.Join(err, host.Stop(0))
	}
	return host, key, nil
}

// demoPlayed lets simulated testers play.
func (a *console) demoPlayed(ctx context.Context, link string) error {
	s := a.screen
	program, none := browser.Find("", "")
	s.Line("")
	s.Line("%s", s.In(term.Careful, "# Now testers would play. Here programs do, and say so of themselves."))
	words := "there is no Chromium here, in which two more would have played"
	group, inside := errgroup.WithContext(ctx)
	for _, t := range testers.Of(demoSeed, demoTesters) {
		group.Go(func() error { return t.Send(inside, link) })
	}
	if none == nil {
		words = fmt.Sprintf("two more play in a real browser, one after the other, for %.0fs each", demoBrowsing.Seconds())
		group.Go(func() error {
			for seed := range uint64(2) {
				if err := testers.InBrowser(inside, program, link, seed, demoBrowsing); err != nil {
					return err
				}
			}
			return nil
		})
	}
	s.Line("%s", s.In(term.Quiet, fmt.Sprintf("%d simulated testers send what would come of %d people; %s", demoTesters, demoTesters, words)))
	return group.Wait()
}
