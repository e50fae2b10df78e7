package cli

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"github.com/spf13/cobra"

	"havvel/internal/app"
	"havvel/internal/cli/term"
	"havvel/internal/deliver"
	"havvel/internal/keys"
	"havvel/internal/project"
	"havvel/internal/rulebook"
)

func (a *console) publish() *cobra.Command {
	var some bool
	c := a.new(command{
		use:   "publish",
		short: "Make a sent version public",
		long: "Publish makes the last version that was sent to each destination public, and prints its link. The link stays the " +
			"same\nfor every later version. With --password, only those see it who have a password, which is asked for, or read from " +
			"standard\ninput; havvel where --share --password prints it again.",
		example: "  havvel publish\n  havvel publish --to brackwater",
		args:    cobra.NoArgs,
		run:     func(ctx context.Context, _ []string) error { return a.runPublish(ctx, some) },
	})
	c.Flags().BoolVar(&some, "password", false, "show it only to those who have a password")
	a.withNotice(c)
	a.withTo(c)
	a.withDryRun(c, "say what would be made public, and do nothing")
	return c
}

func (a *console) runPublish(ctx context.Context, some bool) error {
	return a.atEach(ctx, func(courier *deliver.Courier, d *project.Destination) (*deliver.Status, string, error) {
		if some {
			return a.restrict(ctx, courier, d)
		}
		return a.publishOne(ctx, courier, d)
	})
}

// atEach does something at each destination, and tells of it, and then what comes next. One that fails does not hinder the others.
func (a *console) atEach(
	ctx context.Context,
	do func(*deliver.Courier, *project.Destination) (status *deliver.Status, next string, err error),
) error {
	p, destinations, err := a.destinations()
	if err != nil {
		return err
	}
	courier := a.courier(p)
	doc := deliveriesJSON{Deliveries: []deliveryRow{}}
	var failed error
	var steps []string
	for _, d := range destinations {
		status, next, err := do(courier, d)
		if next != "" && !slices.Contains(steps, next) {
			steps = append(steps, next)
		}
		failed = errors.Join(failed, err)
		if ctx.Err() != nil {
			return failed
		}
		if status != nil {
			doc.add(status)
			a.notice(ctx, status)
		}
	}
	a.answer(doc)
	for _, next := range steps {
		a.screen.Next("%s", next)
	}
	return failed
}

func (a *console) publishOne(
	ctx context.Context,
	courier *deliver.Courier,
	d *project.Destination,
) (now *deliver.Status, next string, err error) {
	last, err := app.Last(courier, d)
	if err != nil {
		return nil, "", err
	}
	if !deliver.Can(d, deliver.Publish) {
		return nil, "", deliver.No(d, deliver.Publish)
	}
	if a.dryRun {
		a.screen.Line("version %s would become public on %s", last.Version, d.Rules.Name)
		a.firstTime(courier, d)
		return &deliver.Status{Delivery: last, Would: rulebook.Public}, "", nil
	}
	if now, err = courier.Ask(ctx, d, last, 0); err != nil {
		return nil, "", err
	}
	if err := app.Publishable(d, now); err != nil {
		return nil, "", err
	}
	if now.State != rulebook.Public {
		a.firstTime(courier, d)
		if now, err = courier.Publish(ctx, d, now.Delivery); err != nil {
			return nil, "", err
		}
	}
	s := a.screen
	s.Line("%s  %s", s.In(term.Strong, "version "+now.Version+" is "+now.State+" on "+d.Rules.Name), term.Clean(now.Link()))
	if err := a.live(ctx, courier, d, now); err != nil {
		return now, "", err
	}
	switch {
	case now.Link() != "":
		next = "open the link as a stranger would, and play it once"
	case !deliver.Can(d, deliver.Headers):
		next = fmt.Sprintf("set public under [to.%s] in havvel.toml, so that havvel knows the link and can look at what players get", d.Name)
	}
	return now, next, nil
}

// restrict shows a version to those who have a password, and keeps the password with the keys.
func (a *console) restrict(
	ctx context.Context,
	courier *deliver.Courier,
	d *project.Destination,
) (now *deliver.Status, next string, err error) {
	last, err := app.Last(courier, d)
	if err != nil {
		return nil, "", err
	}
	if !deliver.Can(d, deliver.Restrict) {
		return nil, "", deliver.No(d, deliver.Restrict)
	}
	if a.dryRun {
		a.screen.Line("version %s would be shown on %s to those with a password", last.Version, d.Rules.Name)
		return &deliver.Status{Delivery: last, Would: last.State}, "", nil
	}
	password, err := a.secret("password of the page on " + d.Rules.Name)
	if err != nil {
		return nil, "", err
	}
	if now, err = courier.Restrict(ctx, d, last, password); err != nil {
		return nil, "", err
	}
	if err := keys.Open().Set(passwordOf(d, password)); err != nil {
		return now, "", err
	}
	s := a.screen
	s.Line(
		"%s  %s",
		s.In(term.Strong, fmt.Sprintf("version %s is on %s for those with the password", now.Version, d.Rules.Name)),
		term.Clean(now.Link()),
	)
	return now, fmt.Sprintf("havvel where --share --password --to %s  (lines to paste)", d.Name), nil
}

// passwordOf is a page's password, as it is kept with the keys.
func passwordOf(d *project.Destination, word string) keys.Key {
	return keys.Key{Name: d.Name + " password", Host: d.Host(), Secret: word, Set: time.Now().UTC().Truncate(time.Second)}
}
