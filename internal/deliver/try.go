package deliver

import (
	"context"

	"havvel/internal/deliver/portal"
	"havvel/internal/project"
)

// Try walks a rulebook's recipe once, and tells trace of each request and answer. Nothing is written into the logbook. With
// publish it makes the version public at the end.
func (c *Courier) Try(ctx context.Context, d *project.Destination, p Parcel, publish bool, trace portal.Trace) (*portal.Answer, error) {
	session, err := c.sendSession(d, p)
	if err != nil {
		return nil, err
	}
	session.Trace = trace
	answer, err := session.Send(ctx, d.Rules.Send, portal.Progress{})
	if err != nil || len(d.Rules.Follow) == 0 {
		return answer, err
	}
	if answer, err = session.Run(ctx, d.Rules.Follow, 0); err != nil || !publish {
		return answer, err
	}
	return session.Run(ctx, d.Rules.Publish, 0)
}
