// Package logbook keeps the history of a project's deliveries. It is a file of JSON lines that only
// grows; a delivery's state is what its last line says. Asking portals is left to deliver.
package logbook

import (
	"bytes"
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"time"

	"havvel/internal/disk"

	"github.com/gofrs/flock"
)

// Format is the version of the logbook's lines.
const Format = 1

// A Line is one event in the life of a delivery. Later lines of a delivery hold what changed, and
// the other fields are as in the line before.
type Line struct {
	Format      int       `json:"logbook"`
	At          time.Time `json:"at"`
	ID          string    `json:"delivery"` // unguessable, so that two histories can be merged
	Destination string    `json:"destination"`
	By          string    `json:"by,omitempty"`    // who sent it
	Found       bool      `json:"found,omitempty"` // it was found on its host, and not sent from here
	Version     string    `json:"version,omitempty"`
	Fingerprint string    `json:"fingerprint,omitempty"` // of the export
	SHA256      string    `json:"sha256,omitempty"`      // of the archive
	Bytes       int64     `json:"bytes,omitempty"`       // of the archive
	Errors      []string  `json:"errors,omitempty"`      // ids of the checks whose errors were sent on purpose, with --accept-errors
	Proof       string    `json:"proof,omitempty"`       // "proven", "not proven" or "worse": whether it runs as well as the export
	State       string    `json:"state"`
	Reasons     []string  `json:"reasons,omitempty"`
	Link        string    `json:"link,omitempty"`   // the public one
	Values      Values    `json:"values,omitempty"` // that later commands need; never a secret
}

// Values are what a portal gave for later: texts, numbers, lists. Numbers are json.Numbers, so that none loses a digit.
type Values map[string]any

// UnmarshalJSON implements json.Unmarshaler.
func (v *Values) UnmarshalJSON(data []byte) error {
	d := json.NewDecoder(bytes.NewReader(data))
	d.UseNumber()
	return d.Decode((*map[string]any)(v))
}

// Text is one of the values as a text; "" when there is none.
func (v Values) Text(name string) string {
	if v[name] == nil {
		return ""
	}
	return fmt.Sprint(v[name])
}

// A Delivery is one version sent to one destination, as its lines tell it.
type Delivery struct {
	Line
	Sent time.Time // when its first line was written
}

// A Book is a logbook's file. The zero value is not usable; Open makes one.
type Book struct {
	path string
	fs   disk.FS
}

// Open returns the logbook of the project in folder. The file need not exist yet.
func Open(folder string) *Book { return On(disk.System, folder) }

// On is Open for another file system.
func On(system disk.FS, folder string) *Book {
	return &Book{filepath.Join(folder, ".havvel", "logbook.jsonl"), system}
}

// NewID returns an id for a delivery that is about to be made.
func NewID() string { return rand.Text()[:16] }

// Add appends a line. Two processes may do so at once, and a line cut short by a crash before is closed off.
func (b *Book) Add(l Line) error {
	l.Format, l.At = Format, l.At.UTC().Truncate(time.Second)
	data, err := json.Marshal(l)
	if err != nil {
		return fmt.Errorf("logbook: %w", err)
	}
	if err := b.fs.MkdirAll(filepath.Dir(b.path), 0o755); err != nil {
		return fmt.Errorf("logbook: %w", err)
	}
	lock := flock.New(b.path + ".lock")
	if err := lock.Lock(); err != nil {
		return fmt.Errorf("locking the logbook: %w", err)
	}
	defer lock.Unlock()
	return b.append(append(data, '\n'))
}

func (b *Book) append(data []byte) (err error) {
	f, err := b.fs.OpenFile(b.path, os.O_RDWR|os.O_CREATE, 0o644)
	if err != nil {
		return fmt.Errorf("logbook: %w", err)
	}
	defer func() { err = errors.Join(err, f.Close()) }()
	end, err := f.Seek(0, io.SeekEnd)
	if err != nil {
		return fmt.Errorf("logbook: %w", err)
	}
	if end > 0 {
		var last [1]byte
		if _, err := f.ReadAt(last[:], end-1); err != nil {
			return fmt.Errorf("logbook: %w", err)
		}
		if last[0] != '\n' {
			data = append([]byte{'\n'}, data...)
		}
	}
	if _, err := f.Write(data); err != nil {
		return fmt.Errorf("logbook: %w", err)
	}
	if err := f.Sync(); err != nil {
		return fmt.Errorf("logbook: %w", err)
	}
	if end > 0 {
		return nil
	}
	// A new file: its name must last, too, and that of its folder.
	if err := errors.Join(b.fs.SyncNames(filepath.Dir(b.path)), b.fs.SyncNames(filepath.Dir(filepath.Dir(b.path)))); err != nil {
		return fmt.Errorf("logbook: %w", err)
	}
	return nil
}

// Lines returns every line as it was written, in the order of the file, and how many can't be read: a line cut short by a crash is one. A
// logbook that does not exist yet is empty.
func (b *Book) Lines() (list []Line, unread int, err error) {
	data, err := os.ReadFile(b.path)
	if err != nil && !errors.Is(err, os.ErrNotExist) {
		return nil, 0, fmt.Errorf("logbook: %w", err)
	}
	for text := range bytes.Lines(bytes.TrimPrefix(data, []byte("\xef\xbb\xbf"))) { // some editors begin a file so
		if len(bytes.TrimSpace(text)) == 0 {
			continue
		}
		var l Line
		if json.Unmarshal(text, &l) != nil || l.ID == "" {
			unread++
			continue
		}
		if l.Format > Format {
			return nil, 0, fmt.Errorf("the logbook %s was written by a newer havvel (format %d); this one reads %d", b.path, l.Format, Format)
		}
		list = append(list, l)
	}
	return list, unread, nil
}

// Deliveries returns all deliveries in the order in which they were sent, and how many lines tell of none.
func (b *Book) Deliveries() (list []*Delivery, unread int, err error) {
	lines, unread, err := b.Lines()
	if err != nil {
		return nil, 0, err
	}
	r := reading{known: map[string]*Delivery{}}
	for _, l := range lines {
		r.take(l)
	}
	for _, l := range r.early {
		if d := r.known[l.ID]; d != nil && !l.At.Before(d.At) {
			d.take(l)
		} else if d == nil {
			unread++
		}
	}
	return r.list, unread, nil
}

// reading is a logbook as far as it was read.
type reading struct {
	list  []*Delivery
	known map[string]*Delivery
	early []Line // that stand before the first line of their delivery, as after a merge of two histories
}

func (r *reading) take(l Line) {
	d := r.known[l.ID]
	if d == nil && l.Version == "" {
		r.early = append(r.early, l)
		return
	}
	if d == nil {
		d = &Delivery{Sent: l.At}
		r.known[l.ID] = d
		at := len(r.list)
		if l.Found { // it was sent before what stands above it
			at = place(r.list, d, l.Destination)
		}
		r.list = slices.Insert(r.list, at, d)
	}
	d.take(l)
}

// place is where a delivery belongs that was found later than it was sent: before those to the same destination that were sent after it.
func place(list []*Delivery, d *Delivery, destination string) int {
	for i, o := range list {
		if o.Destination == destination && o.Sent.After(d.Sent) {
			return i
		}
	}
	return len(list)
}

// take brings a delivery to what a later line says.
func (d *Delivery) take(l Line) {
	before := d.Line
	d.Line = l
	if l.Version == "" {
		d.By, d.Found, d.Version, d.Fingerprint = before.By, before.Found, before.Version, before.Fingerprint
		d.SHA256, d.Bytes, d.Errors, d.Proof = before.SHA256, before.Bytes, before.Errors, before.Proof
	}
	if l.Link == "" {
		d.Link = before.Link
	}
	if l.Values == nil {
		d.Values = before.Values
	}
}
