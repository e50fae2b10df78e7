package deliver

import (
	"context"
	"time"

	"havvel/internal/deliver/portal"
	"havvel/internal/project"
	"havvel/internal/rulebook"
)

// Try walks a rulebook's recipe once, and tells trace of each request and answer. Nothing is written into the logbook. It fills in the
// page, where there is one to fill in. With publish it makes the version public at the end, once the portal has decided; when it has not
// within the limit, the answer says so by its state.
func (c *Courier) Try(
	ctx context.Context,
	d *project.Destination,
	p Parcel,
	page *Contents,
	publish bool,
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
	if len(d.Rules.Follow) == 0 {
		return answer, nil
	}
	if !publish || len(d.Rules.Publish) == 0 {
		return session.Run(ctx, d.Rules.Follow, 0)
	}
	if answer, err = session.Run(ctx, d.Rules.Follow, limit); err != nil || answer.State != rulebook.Draft {
		return answer, err
	}
	return session.Run(ctx, d.Rules.Publish, portal.ByRulebook)
}
