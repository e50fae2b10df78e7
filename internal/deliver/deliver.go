// Package deliver sends versions to destinations, follows them and makes them public, and writes what
// happened into the logbook. How one portal is talked to is left to deliver/portal and its rulebook.
package deliver

import (
	"cmp"
	"context"
	"fmt"
	"io"
	"os"
	"strconv"
	"time"

	"havvel/internal/deliver/portal"
	"havvel/internal/deliver/site"
	"havvel/internal/fault"
	"havvel/internal/listing"
	"havvel/internal/logbook"
	"havvel/internal/pack"
	"havvel/internal/progress"
	"havvel/internal/project"
	"havvel/internal/rulebook"
)

// Undecided reports whether the portal has still to say what becomes of a delivery in this state.
func Undecided(state string) bool {
	return state == rulebook.Sent || state == rulebook.Verifying || state == rulebook.InReview
}

// A Courier delivers the versions of one project.
type Courier struct {
	Project *project.Project
	Book    *logbook.Book
	Report  progress.Reporter
	Now     func() time.Time
}

// A Status is a delivery, and what its portal says of it now.
type Status struct {
	*logbook.Delivery
	Draft string    // the link for its owner while it is not public; it is a secret and stands in no file
	Took  site.Sent // what an upload to a site took
	Would string    // of a dry run: the state that it would have
}

// Link is where the delivery can be looked at: the public link, or the one for its owner.
func (s *Status) Link() string {
	if s.State == rulebook.Public || s.Draft == "" {
		return s.Delivery.Link
	}
	return s.Draft
}

// A Parcel is what is sent: an archive, and the version and export that it holds.
type Parcel struct {
	Version     string
	Fingerprint string
	Archive     *pack.Archive
	Proof       string // "proven", "not proven" or "worse": whether it runs as well as the export; "" where nobody looked
}

// AlreadySent says that nothing new would be sent.
type AlreadySent struct {
	Before *logbook.Delivery
	Same   bool // the same export; otherwise another export was sent as this version
}

func (e *AlreadySent) Error() string {
	day := e.Before.Sent.Local().Format("2 January 15:04")
	if e.Same {
		return fmt.Sprintf(
			"this very export was sent to %s as version %s on %s (state: %s)",
			e.Before.Destination,
			e.Before.Version,
			day,
			e.Before.State,
		)
	}
	return fmt.Sprintf("version %s was sent to %s on %s, from another export", e.Before.Version, e.Before.Destination, day)
}

// Fault tells it.
func (e *AlreadySent) Fault() *fault.Error {
	told := fault.Tell(e, fault.No, "raise the version in havvel.toml, or send it once more with --again")
	if e.Same {
		told.Next = "export the game again, or send the same export once more with --again"
	}
	return told
}

// Fresh returns an *AlreadySent error when the export, or another one as that version, was sent to the
// destination before.
func (c *Courier) Fresh(d *project.Destination, version, fingerprint string) error {
	all, _, err := c.Book.Deliveries()
	if err != nil {
		return err
	}
	for i := len(all) - 1; i >= 0; i-- {
		before := all[i]
		if before.Destination != d.Name {
			continue
		}
		if before.Fingerprint == fingerprint {
			return &AlreadySent{before, true}
		}
		if before.Version == version && before.State != rulebook.Refused {
			return &AlreadySent{before, false}
		}
	}
	return nil
}

// Send uploads a parcel and records the delivery. Nothing is recorded when the upload fails.
func (c *Courier) Send(ctx context.Context, d *project.Destination, p Parcel) (*Status, error) {
	receipt, err := c.Target(d).Send(ctx, p)
	if err != nil {
		return nil, err
	}
	status, err := c.begin(d, p, receipt.Answer, receipt.Values)
	if receipt.Done != nil {
		receipt.Done()
	}
	if status != nil {
		status.Took = receipt.Took
	}
	return status, err
}

// sendSession knows what a parcel's steps can use and send.
func (c *Courier) sendSession(d *project.Destination, p Parcel) (*portal.Session, error) {
	values := map[string]string{
		"version": p.Version, "fingerprint": p.Fingerprint,
		"archive.sha256": p.Archive.SHA256, "archive.bytes": strconv.FormatInt(p.Archive.Bytes, 10),
	}
	files := map[string]portal.File{"archive": {Path: p.Archive.Path, Bytes: p.Archive.Bytes}}
	for _, part := range p.Archive.Parts {
		values[part.Part+".sha256"], values[part.Part+".bytes"] = part.SHA256, strconv.FormatInt(part.Bytes, 10)
		files[part.Part] = portal.File{Path: part.Path, Bytes: part.Bytes}
	}
	session, err := c.session(d, values)
	if err != nil {
		return nil, err
	}
	session.Files = files
	for _, f := range p.Archive.Files {
		session.Folder = append(session.Folder, portal.File{Path: f.Path, Bytes: f.Bytes, Name: f.Name, SHA256: f.SHA256, Type: siteFile(f).Type})
	}
	return session, nil
}

// begin writes down that a parcel was sent.
func (c *Courier) begin(d *project.Destination, p Parcel, answer *portal.Answer, values map[string]string) (*Status, error) {
	line := logbook.Line{
		At: c.Now(), ID: logbook.NewID(), Destination: d.Name, By: sender(),
		Version: p.Version, Fingerprint: p.Fingerprint, SHA256: p.Archive.SHA256, Bytes: p.Archive.Bytes,
		Errors: p.Archive.Errors(), Proof: p.Proof, State: answer.State, Reasons: answer.Reasons, Values: values,
	}
	if line.State == "" {
		line.State = rulebook.Sent
	}
	if err := c.Book.Add(line); err != nil {
		return nil, fmt.Errorf("version %s was sent to %s, but that could not be written down: %w", p.Version, d.Name, err)
	}
	return &Status{Delivery: &logbook.Delivery{Line: line, Sent: line.At}, Draft: answer.Draft}, nil
}

func openFile(path string) func() (io.ReadSeekCloser, error) {
	return func() (io.ReadSeekCloser, error) { return os.Open(path) }
}

func kept(d *project.Destination, values map[string]string) map[string]string {
	keep := map[string]string{}
	for _, name := range d.Rules.Keep {
		keep[name] = values[name]
	}
	return keep
}

// session knows the values that every recipe can use, and those given.
func (c *Courier) session(d *project.Destination, more map[string]string) (*portal.Session, error) {
	key, err := d.Secret()
	if err != nil {
		return nil, err
	}
	values := map[string]string{
		"game.title": c.Project.Game.Title, "game.short": c.Project.Game.Short, "game.studio": c.Project.Game.Studio,
	}
	for name, v := range more {
		values[name] = v
	}
	s := portal.NewSession(d.Rules, d.Address, key, values)
	statistics := []listing.Leaderboard{}
	for _, x := range c.Project.Statistics {
		statistics = append(
			statistics,
			listing.Leaderboard{Name: x.Name, Label: cmp.Or(x.Label, x.Name), Keeps: x.Keeps, Unit: x.Unit, Hidden: x.Hidden},
		)
	}
	s.Report, s.Whole["game.statistics"] = c.Report, statistics
	return s, nil
}

// resume returns a session that knows what was kept of a delivery.
func (c *Courier) resume(d *project.Destination, l *logbook.Delivery) (*portal.Session, error) {
	values := map[string]string{
		"version": l.Version, "fingerprint": l.Fingerprint, "archive.sha256": l.SHA256,
		"archive.bytes": strconv.FormatInt(l.Bytes, 10),
	}
	for name, v := range l.Values {
		values[name] = v
	}
	return c.session(d, values)
}

// Ask asks for the state of a delivery and records what changed. With a wait, it asks again
// until the portal has decided, for that long at most.
func (c *Courier) Ask(ctx context.Context, d *project.Destination, l *logbook.Delivery, wait time.Duration) (*Status, error) {
	answer, err := c.Target(d).Ask(ctx, l, wait)
	if err != nil {
		return nil, err
	}
	return c.record(l, answer)
}

// record writes down what an answer changes of a delivery.
func (c *Courier) record(l *logbook.Delivery, a *portal.Answer) (*Status, error) {
	after := *l
	if a.State != "" {
		after.State, after.Reasons = a.State, a.Reasons
	}
	if after.State == rulebook.Public && a.Link != "" {
		after.Line.Link = a.Link
	}
	if after.State != l.State || after.Line.Link != l.Line.Link {
		line := logbook.Line{
			At: c.Now(), ID: l.ID, Destination: l.Destination,
			State: after.State, Reasons: after.Reasons, Link: after.Line.Link,
		}
		if err := c.Book.Add(line); err != nil {
			return nil, err
		}
		after.At = line.At
	}
	return &Status{Delivery: &after, Draft: a.Draft}, nil
}

// Latest returns the last delivery to each destination and, where it is another one, the public one;
// in the order of destinations.
func (c *Courier) Latest(destinations []*project.Destination) ([]*logbook.Delivery, error) {
	all, _, err := c.Book.Deliveries()
	if err != nil {
		return nil, err
	}
	var list []*logbook.Delivery
	for _, d := range destinations {
		var last, public *logbook.Delivery
		for _, l := range all {
			if l.Destination != d.Name {
				continue
			}
			last = l
			if l.State == rulebook.Public {
				public = l
			}
		}
		if last != nil {
			list = append(list, last)
		}
		if public != nil && public != last {
			list = append(list, public)
		}
	}
	return list, nil
}
