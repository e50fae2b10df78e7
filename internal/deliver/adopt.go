package deliver

import (
	"context"
	"time"

	"havvel/internal/deliver/portal"
	"havvel/internal/deliver/site"
	"havvel/internal/logbook"
	"havvel/internal/project"
	"havvel/internal/rulebook"
)

// Adopt brings the logbook to what a site holds, since that decides: versions that were sent from elsewhere, those that are gone, and which
// one is public. For a portal it does nothing.
func (c *Courier) Adopt(ctx context.Context, d *project.Destination) error {
	t, ok := c.Target(d).(*siteTarget)
	if !ok {
		return nil
	}
	var x *site.Index
	err := t.onSite(ctx, d, func(ctx context.Context, s *site.Site) (err error) {
		x, err = s.Index(ctx)
		return err
	})
	if err != nil {
		return err
	}
	all, _, err := c.Book.Deliveries()
	if err != nil {
		return err
	}
	known := map[string]bool{}
	for _, l := range all {
		folder := l.Values.Text(folderValue)
		if l.Destination != d.Name || folder == "" {
			continue
		}
		known[folder] = true
		state := stateOf(x, folder)
		if state == l.State || state == rulebook.Draft && l.State == rulebook.Withdrawn { // it was public once, and the site forgot
			continue
		}
		if _, err := c.record(ctx, d, l, &portal.Answer{State: state, Link: d.Public}); err != nil {
			return err
		}
	}
	for _, v := range x.Versions {
		if !known[v.Folder] {
			if err := c.found(d, x, v); err != nil {
				return err
			}
		}
	}
	return nil
}

// found writes down a version that was found on a site.
func (c *Courier) found(d *project.Destination, x *site.Index, v site.Version) error {
	at := v.Sent
	for _, o := range x.Versions {
		if o.Sent.After(v.Sent) && o.Sent.Truncate(time.Second).Equal(v.Sent.Truncate(time.Second)) { // which a line doesn't tell apart
			at = at.Add(-time.Second)
			break
		}
	}
	line := logbook.Line{
		At: at, ID: logbook.NewID(), Destination: d.Name, Found: true, Version: v.Version, Fingerprint: v.Fingerprint, Bytes: v.Bytes,
		State: rulebook.Draft, Values: logbook.Values{folderValue: v.Folder},
	}
	if err := c.Book.Add(line); err != nil {
		return err
	}
	now := logbook.Line{ID: line.ID, Destination: d.Name, State: stateOf(x, v.Folder), At: x.LastSeen(v.Folder, c.Now())}
	switch now.State {
	case rulebook.Draft:
		return nil
	case rulebook.Public:
		now.At, now.Link = x.At, d.Public
	}
	return c.Book.Add(now)
}

// stateOf is the state of what is in a version's folder.
func stateOf(x *site.Index, folder string) string {
	switch v := x.Find(folder); {
	case v == nil:
		return rulebook.Withdrawn
	case x.Current == folder:
		return rulebook.Public
	case v.Public && x.Current != "":
		return rulebook.Replaced
	case v.Public:
		return rulebook.Withdrawn
	}
	return rulebook.Draft
}
