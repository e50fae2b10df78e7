package deliver

import (
	"context"
	"errors"
	"time"

	"havvel/internal/deliver/portal"
	"havvel/internal/fault"
	"havvel/internal/logbook"
	"havvel/internal/project"
	"havvel/internal/rulebook"
)

// Publish makes a delivery public; the one that was public at the destination is replaced.
func (c *Courier) Publish(ctx context.Context, d *project.Destination, l *logbook.Delivery) (*Status, error) {
	return c.release(ctx, d, l, Publish)
}

// Back makes an earlier delivery public again, under the same link.
func (c *Courier) Back(ctx context.Context, d *project.Destination, l *logbook.Delivery) (*Status, error) {
	return c.release(ctx, d, l, Back)
}

func (c *Courier) release(ctx context.Context, d *project.Destination, l *logbook.Delivery, by Ability) (*Status, error) {
	t := c.Target(d)
	if !t.Can(by) {
		return nil, t.No(by)
	}
	answer, seen, err := t.Release(ctx, l, by)
	if answer, err = c.sure(ctx, d, l, answer, err, rulebook.Public); err != nil {
		return nil, err
	}
	untold := answer.State == ""
	if untold {
		answer.State = rulebook.Public // by the step's yes; the link has to open
		if answer.Link == "" && l.Line.Link == "" || answer.Asked {
			answer.State = rulebook.Verifying
		}
	}
	status, err := c.record(ctx, d, l, answer)
	if status != nil {
		status.Seen = seen
	}
	if err != nil || status.State != rulebook.Public {
		if err == nil && untold && status.Note == "" {
			status.Note = d.Rules.Name + " was asked for it and didn't say no; its rulebook can't tell when it is public"
		}
		return status, err
	}
	return status, c.replaceOthers(ctx, d, status.Delivery)
}

// sure has a portal followed where the answer to a write was lost, or doesn't say what state the delivery is in.
func (c *Courier) sure(
	ctx context.Context, d *project.Destination, l *logbook.Delivery, a *portal.Answer, err error, wanted string,
) (*portal.Answer, error) {
	var lost *portal.Lost
	if err != nil && !errors.As(err, &lost) || err == nil && a.State != "" {
		return a, err
	}
	t := c.Target(d)
	if !t.Can(Follow) {
		return a, err
	}
	now, asked := t.Ask(ctx, l, 0)
	switch {
	case asked != nil && lost == nil:
		return nil, asked
	case lost != nil && (asked != nil || now.State != wanted):
		return nil, err
	}
	if a != nil && now.Link == "" {
		now.Link = a.Link
	}
	return now, nil
}

// closed says why a public link doesn't open as a page; "" when it does, or when there is none that could be looked at.
func (c *Courier) closed(ctx context.Context, d *project.Destination, link string) string {
	if link == "" || d.SiteAddress() != nil {
		return ""
	}
	why, err := newVisitor(link).opens(ctx, link)
	if err != nil {
		return "its link doesn't open yet: " + fault.Of(err).What
	}
	if why != "" {
		return "its link doesn't open yet: " + why
	}
	return ""
}

// Do has a portal do something with a delivery beside the usual.
func (c *Courier) Do(ctx context.Context, d *project.Destination, l *logbook.Delivery, what Ability, detail any) (*Status, error) {
	t := c.Target(d)
	if !t.Can(what) {
		return nil, t.No(what)
	}
	answer, err := t.Do(ctx, l, what, detail)
	if answer, err = c.sure(ctx, d, l, answer, err, ""); err != nil {
		return nil, err
	}
	if answer.State == "" && what == Schedule {
		answer.State = rulebook.Scheduled
	}
	return c.record(ctx, d, l, answer)
}

// Restrict shows a sent delivery to those who have a password.
func (c *Courier) Restrict(ctx context.Context, d *project.Destination, l *logbook.Delivery, password string) (*Status, error) {
	return c.Do(ctx, d, l, Restrict, password)
}

// A Known version is one that a destination says it has.
type Known struct {
	Version string `json:"version"`
	State   string `json:"state"`
}

// Versions asks a destination which versions it has, also those that others sent.
func (c *Courier) Versions(ctx context.Context, d *project.Destination) ([]Known, error) {
	t := c.Target(d)
	if !t.Can(List) {
		return nil, t.No(List)
	}
	return t.List(ctx)
}

// Withdraw takes the public delivery offline; nothing is public there afterwards.
func (c *Courier) Withdraw(ctx context.Context, d *project.Destination, l *logbook.Delivery) (*Status, error) {
	t := c.Target(d)
	if !t.Can(Withdraw) {
		return nil, t.No(Withdraw)
	}
	answer, err := t.Withdraw(ctx, l)
	if answer, err = c.sure(ctx, d, l, answer, err, rulebook.Withdrawn); err != nil {
		return nil, err
	}
	note := ""
	if answer.State == "" && answer.Asked {
		note = d.Rules.Name + " was asked for it and didn't say no; its rulebook can't tell when it is offline"
	} else if answer.State == "" {
		answer.State = rulebook.Withdrawn
	}
	status, err := c.record(ctx, d, l, answer)
	if err == nil && note != "" {
		status.Note = note
	}
	return status, err
}

// Earlier returns the delivery to go back to: that of a version, or with "" the one that was public before. The first value is
// the public one, which may be nil.
func (c *Courier) Earlier(d *project.Destination, version string) (now, to *logbook.Delivery, err error) {
	all, _, err := c.Book.Deliveries()
	if err != nil {
		return nil, nil, err
	}
	var replaced time.Time
	for _, l := range all {
		switch {
		case l.Destination != d.Name:
		case l.State == rulebook.Public:
			now = l
			if version == l.Version {
				to = l
			}
		case version != "" && l.Version == version && l.State != rulebook.Refused:
			to = l
		case version == "" && l.State == rulebook.Replaced && !l.At.Before(replaced):
			to, replaced = l, l.At
		}
	}
	return now, to, nil
}

func (c *Courier) replaceOthers(ctx context.Context, d *project.Destination, now *logbook.Delivery) error {
	all, _, err := c.Book.Deliveries()
	if err != nil {
		return err
	}
	for _, l := range all {
		if l.Destination == now.Destination && l.ID != now.ID && l.State == rulebook.Public {
			if _, err := c.record(ctx, d, l, &portal.Answer{State: rulebook.Replaced}); err != nil {
				return err
			}
		}
	}
	return nil
}
