// Package deliver sends versions to destinations, follows them and makes them public, and writes what
// happened into the logbook. How one portal is talked to is left to deliver/portal and its rulebook.
package deliver

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"maps"
	"os"
	"path/filepath"
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
	"havvel/internal/rulebook/expression"
)

// Undecided reports whether the portal has still to say what becomes of a delivery in this state.
func Undecided(state string) bool { return rulebook.Undecided(state) }

// A Courier delivers the versions of one project.
type Courier struct {
	Project *project.Project
	Book    *logbook.Book
	Report  progress.Reporter
	Now     func() time.Time
	Prompt  portal.Prompt // shows where to confirm a log-in; nil where nobody can
	Over    bool          // a version of a site is published though what is public was sent later
	Anyway  bool          // it is published though players get it in another form than it was sent
	Warn    func(string)  // is told what players lose by a switch, before it; nil where nobody listens

	lines    *lines
	pretends bool // no request is made, so no key is needed
}

// A Status is a delivery, and what its portal says of it now.
type Status struct {
	*logbook.Delivery
	Draft string    // the link for its owner while it is not public; it is a secret and stands in no file
	Took  site.Sent // what an upload to a site took
	Would string    // of a dry run: the state that it would have
	Note  string    // what the state doesn't say
	Seen  *Live     // what players get, where that was looked at
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
	Stand       site.Stand // on a site: whether its entry page can be the page at the root
	Preview     string     // on a site: the file of a picture for previews of its link; "" for none
	Again       bool       // whatever was sent before
	Proof       string     // "proven", "not proven" or "worse": whether it runs as well as the export; "" where nobody looked
}

// AlreadySent says that nothing new would be sent.
type AlreadySent struct {
	Before *logbook.Delivery
	Same   bool // the same export; otherwise another export was sent as this version
}

// Lost reports whether it is not known that the version arrived.
func (e *AlreadySent) Lost() bool { return e.Before.State == rulebook.Unknown }

func (e *AlreadySent) Error() string {
	day := e.Before.Sent.Local().Format("2 January 15:04")
	if e.Lost() {
		return fmt.Sprintf("version %s was on its way to %s on %s when an answer was lost, so whether it arrived is unknown",
			e.Before.Version, e.Before.Destination, day)
	}
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
	if e.Lost() {
		return fault.Tell(e, fault.Unreachable, "look at your page there; where it isn't, havvel send --again uploads it")
	}
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
		if before.State == rulebook.Unknown && before.Version == version && before.Fingerprint == fingerprint && len(d.Rules.Find) > 0 {
			return nil // the portal can be asked
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

// Send uploads a parcel and records the delivery. Nothing is recorded when the upload fails, unless nobody can tell whether it did: then
// the delivery is unknown.
func (c *Courier) Send(ctx context.Context, d *project.Destination, p Parcel) (*Status, error) {
	receipt, err := c.Target(d).Send(ctx, p)
	var lost *portal.Lost
	if errors.As(err, &lost) {
		_, unwritten := c.begin(d, p, &portal.Answer{State: rulebook.Unknown, Reasons: []string{lost.Error()}}, nil)
		told := fault.Tell(err, fault.Unreachable,
			"look at your page on "+d.Rules.Name+"; where version "+p.Version+" isn't there, havvel send --again uploads it")
		return nil, errors.Join(told, unwritten)
	}
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
	archive := expression.File{Name: filepath.Base(p.Archive.Path), Bytes: int(p.Archive.Bytes), SHA256: p.Archive.SHA256}.At(p.Archive.Path)
	values := expression.Values{"version": p.Version, "fingerprint": p.Fingerprint, "archive": archive}
	for _, part := range p.Archive.Parts {
		values[part.Part] = expression.File{Name: filepath.Base(part.Path), Bytes: int(part.Bytes), SHA256: part.SHA256}.At(part.Path)
	}
	files := []expression.File{}
	for _, f := range p.Archive.Files {
		files = append(files, expression.File{Name: f.Name, Bytes: int(f.Bytes), SHA256: f.SHA256, Type: siteFile(f).Type}.At(f.Path))
	}
	values["files"] = files
	return c.session(d, values)
}

// begin writes down that a parcel was sent.
func (c *Courier) begin(d *project.Destination, p Parcel, answer *portal.Answer, values logbook.Values) (*Status, error) {
	id, err := c.unfinished(d, p)
	if err != nil {
		return nil, err
	}
	line := logbook.Line{
		At: c.Now(), ID: id, Destination: d.Name, By: sender(),
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

// unfinished is the id of the delivery of this very parcel of which nobody knew whether it arrived; a new one where there is none.
func (c *Courier) unfinished(d *project.Destination, p Parcel) (string, error) {
	all, _, err := c.Book.Deliveries()
	for _, l := range all {
		if l.Destination == d.Name && l.State == rulebook.Unknown && l.Version == p.Version && l.Fingerprint == p.Fingerprint {
			return l.ID, err
		}
	}
	return logbook.NewID(), err
}

func openFile(path string) func() (io.ReadSeekCloser, error) {
	return func() (io.ReadSeekCloser, error) { return os.Open(path) }
}

// kept are the values that later commands need. Those that may hold a secret are not among them.
func kept(d *project.Destination, s *portal.Session) logbook.Values {
	keep := logbook.Values{}
	for _, name := range d.Rules.Keep {
		if v := s.Value(name); v != nil && !s.Secret(name) {
			keep[name] = v
		}
	}
	return keep
}

// session knows the values that every recipe can use, and those given.
func (c *Courier) session(d *project.Destination, more expression.Values) (*portal.Session, error) {
	key, err := d.Secret()
	if err != nil && c.pretends {
		key, err = "(key)", nil
	}
	if err != nil {
		return nil, err
	}
	statistics := []listing.Leaderboard{}
	for _, x := range c.Project.Statistics {
		statistics = append(
			statistics,
			listing.Leaderboard{Name: x.Name, Label: cmp.Or(x.Label, x.Name), Keeps: x.Keeps, Unit: x.Unit, Hidden: x.Hidden},
		)
	}
	g := c.Project.Game
	values := expression.Values{
		"game": map[string]any{"title": g.Title, "short": g.Short, "studio": g.Studio, "statistics": free(statistics)},
	}
	maps.Copy(values, more)
	s, err := portal.NewSession(d.Rules, d.Address, key, values)
	if err != nil {
		return nil, err
	}
	own, err := d.Filled()
	if err != nil {
		return nil, err
	}
	to := map[string]any{}
	for _, v := range own {
		to[v.Name] = v.Text
		if v.Secret {
			s.Conceal("to."+v.Name, v.Text)
		}
	}
	s.Know("to", to)
	s.Report, s.Prompt, s.Vault, s.Entered = c.Report, c.Prompt, vault{d}, c.pretends
	s.Sketches = c.sketches()
	return s, nil
}

// free is a value as JSON has it, which expressions can look into.
func free(v any) any {
	data, _ := json.Marshal(v) // it is plain data
	var out expression.Values
	if json.Unmarshal([]byte(`{"v":`+string(data)+`}`), &out) != nil {
		return nil
	}
	return out["v"]
}

// resume returns a session that knows what was kept of a delivery.
func (c *Courier) resume(d *project.Destination, l *logbook.Delivery) (*portal.Session, error) {
	values := expression.Values{
		"version": l.Version, "fingerprint": l.Fingerprint, "archive": map[string]any{"sha256": l.SHA256, "bytes": int(l.Bytes)},
	}
	for name, v := range l.Values {
		values[name] = expression.Exact(v)
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
	return c.record(ctx, d, l, answer)
}

// record writes down what an answer changes of a delivery. It is public only once its link opens.
func (c *Courier) record(ctx context.Context, d *project.Destination, l *logbook.Delivery, a *portal.Answer) (*Status, error) {
	after, note := *l, ""
	if a.Link == "" {
		a.Link = l.Line.Link
	}
	if a.State == rulebook.Public && l.State != rulebook.Public {
		if note = c.closed(ctx, d, a.Link); note != "" {
			a.State, note = rulebook.Verifying, d.Rules.Name+" says that it is public; "+note
		}
	}
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
	return &Status{Delivery: &after, Draft: a.Draft, Note: note}, nil
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
