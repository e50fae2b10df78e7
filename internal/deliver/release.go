package deliver

import (
	"context"
	"fmt"
	"time"

	"havvel/internal/deliver/portal"
	"havvel/internal/logbook"
	"havvel/internal/project"
	"havvel/internal/rulebook"
)

// Publish makes a delivery public; the one that was public at the destination is replaced.
func (c *Courier) Publish(ctx context.Context, d *project.Destination, l *logbook.Delivery) (*Status, error) {
	return c.release(ctx, d, l, d.Rules.Publish)
}

// release makes a delivery public by the steps given, or by a switch on a site.
func (c *Courier) release(ctx context.Context, d *project.Destination, l *logbook.Delivery, steps []rulebook.Step) (*Status, error) {
	answer, err := c.act(ctx, d, l, steps, l.Values[folderValue])
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

// act runs steps of a portal for a delivery, or makes a folder of a site the current one.
func (c *Courier) act(ctx context.Context, d *project.Destination, l *logbook.Delivery, steps []rulebook.Step, folder string) (*portal.Answer, error) {
	if d.SiteAddress() != nil {
		return c.switchSite(ctx, d, folder)
	}
	session, err := c.resume(d, l)
	if err != nil {
		return nil, err
	}
	return session.Run(ctx, steps, 0)
}

// NoWay says that a destination's rulebook has no steps for something.
type NoWay struct{ Destination, Portal, What, Key string }

func (e *NoWay) Error() string {
	return fmt.Sprintf("the rulebook of %s does not say how to %s (it has no [[%s]] steps)", e.Portal, e.What, e.Key)
}

// Back makes an earlier delivery public again, under the same link.
func (c *Courier) Back(ctx context.Context, d *project.Destination, l *logbook.Delivery) (*Status, error) {
	steps := d.Rules.Back
	if len(steps) == 0 && d.SiteAddress() == nil {
		return nil, &NoWay{d.Name, d.Rules.Name, "make an earlier version public again", "back"}
	}
	return c.release(ctx, d, l, steps)
}

// Restrict shows a sent delivery to those who have a password.
func (c *Courier) Restrict(ctx context.Context, d *project.Destination, l *logbook.Delivery, password string) (*Status, error) {
	if len(d.Rules.Restrict) == 0 {
		return nil, &NoWay{d.Name, d.Rules.Name, "show a version to those with a password", "restrict"}
	}
	session, err := c.resume(d, l)
	if err != nil {
		return nil, err
	}
	session.Hide("password", password)
	answer, err := session.Run(ctx, d.Rules.Restrict, 0)
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

// Versions asks a destination which versions it has, whoever sent them.
func (c *Courier) Versions(ctx context.Context, d *project.Destination) ([]Known, error) {
	if d.SiteAddress() != nil {
		return c.siteVersions(ctx, d)
	}
	if len(d.Rules.List) == 0 {
		return nil, &NoWay{d.Name, d.Rules.Name, "list versions", "list"}
	}
	session, err := c.session(d, nil)
	if err != nil {
		return nil, err
	}
	answer, err := session.Run(ctx, d.Rules.List, 0)
	if err != nil {
		return nil, err
	}
	var list []Known
	for i, v := range answer.Versions {
		k := Known{Version: v}
		if i < len(answer.States) {
			k.State = answer.States[i]
		}
		list = append(list, k)
	}
	return list, nil
}

// Withdraw takes the public delivery off; nothing is public there afterwards.
func (c *Courier) Withdraw(ctx context.Context, d *project.Destination, l *logbook.Delivery) (*Status, error) {
	if len(d.Rules.Withdraw) == 0 && d.SiteAddress() == nil {
		return nil, &NoWay{d.Name, d.Rules.Name, "take a version off", "withdraw"}
	}
	answer, err := c.act(ctx, d, l, d.Rules.Withdraw, "")
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
