package deliver

import (
	"context"
	"errors"
	"fmt"
	"time"

	"havvel/internal/deliver/portal"
	"havvel/internal/fault"
	"havvel/internal/project"
	"havvel/internal/rulebook"
)

// Try walks a rulebook's recipe once, and tells trace of each request and answer. Nothing is written into the logbook. It fills in the
// page, where there is one to fill in. With publish it makes the version public at the end, once the portal has decided; when it has not
// within the limit, the answer says so by its state. more names recipes that are walked after that.
func (c *Courier) Try(
	ctx context.Context,
	d *project.Destination,
	p Parcel,
	page *Contents,
	publish bool,
	more []string,
	limit time.Duration,
	trace portal.Trace,
) (*portal.Answer, error) {
	session, err := c.sendSession(d, p)
	if err != nil {
		return nil, err
	}
	session.Trace = trace
	answer, err := session.Send(ctx, d.Rules.Send)
	if err != nil {
		return answer, err
	}
	if page != nil {
		page.load(session, &SentPage{})
		if _, err := session.Run(ctx, d.Rules.Fill, portal.ByRulebook); err != nil {
			return answer, c.named(d, page, err)
		}
	}
	if answer, err = c.decided(ctx, session, d, answer, publish, limit); err != nil {
		return answer, err
	}
	for name, v := range map[string]any{
		"password": "practice", "at": c.Now().Add(time.Hour).UTC().Format(time.RFC3339), "players": 10, "testers": []string{"practice"},
	} {
		session.Know(name, v)
	}
	for _, name := range more {
		after, err := session.Run(ctx, d.Rules.Recipes.Steps(name), portal.ByRulebook)
		if err != nil {
			return answer, fmt.Errorf("[[%s]]: %w", name, err)
		}
		if after.State != "" {
			answer = after
		}
	}
	return answer, nil
}

// decided follows a version, and publishes it where that is wanted and can be.
func (c *Courier) decided(
	ctx context.Context, session *portal.Session, d *project.Destination, answer *portal.Answer, publish bool, limit time.Duration,
) (*portal.Answer, error) {
	if len(d.Rules.Follow) == 0 {
		return answer, nil
	}
	if !publish || len(d.Rules.Publish) == 0 {
		return session.Run(ctx, d.Rules.Follow, 0)
	}
	answer, err := session.Run(ctx, d.Rules.Follow, limit)
	if err != nil || answer.State != rulebook.Draft {
		return answer, err
	}
	return session.Run(ctx, d.Rules.Publish, portal.ByRulebook)
}

// Requests tells trace each request that an upload would make, as far as that can be said without the portal's answers. None is made. The
// error says at which request it ends to be known.
func (c *Courier) Requests(ctx context.Context, d *project.Destination, p Parcel, trace portal.Trace) error {
	own := *c
	own.pretends = true
	session, err := own.sendSession(d, p)
	if err != nil {
		return err
	}
	session.Pretend, session.Trace = true, trace
	_, err = session.Run(ctx, d.Rules.Send, portal.ByRulebook)
	var odd *portal.Puzzled
	if errors.As(err, &odd) {
		return fault.New(fault.No, "what comes from step %q on depends on what %s answers", odd.Step, d.Rules.Name).
			Then("havvel rules try walks it request by request")
	}
	return err
}
