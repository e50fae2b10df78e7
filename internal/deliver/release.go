package deliver

import (
	"context"
	"time"

	"havvel/internal/deliver/portal"
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
	answer, err := t.Release(ctx, l, by)
	if err != nil {
		return nil, err
	}
	if answer.State == "" {
		answer.State = rulebook.Public
	}
	status, err := c.record(l, answer)
	if err != nil || status.State != rulebook.Public {
		return status, err
	}
	return status, c.replaceOthers(status.Delivery)
}

// Restrict shows a sent delivery to those who have a password.
func (c *Courier) Restrict(ctx context.Context, d *project.Destination, l *logbook.Delivery, password string) (*Status, error) {
	t := c.Target(d)
	if !t.Can(Restrict) {
		return nil, t.No(Restrict)
	}
	answer, err := t.Restrict(ctx, l, password)
	if err != nil {
		return nil, err
	}
	return c.record(l, answer)
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
	if err != nil {
		return nil, err
	}
	if answer.State == "" {
		answer.State = rulebook.Withdrawn
	}
	return c.record(l, answer)
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

func (c *Courier) replaceOthers(now *logbook.Delivery) error {
	all, _, err := c.Book.Deliveries()
	if err != nil {
		return err
	}
	for _, l := range all {
		if l.Destination == now.Destination && l.ID != now.ID && l.State == rulebook.Public {
			if _, err := c.record(l, &portal.Answer{State: rulebook.Replaced}); err != nil {
				return err
			}
		}
	}
	return nil
}
