package site

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"slices"
	"time"

	"golang.org/x/sync/errgroup"

	"havvel/internal/deliver/site/root"
	"havvel/internal/fault"
)

// An Index says which version is current, and which there are. It is kept in two files: what players read, and the register of versions.
type Index struct {
	Format     int       `json:"havvel_site"`
	Current    string    `json:"current,omitempty"` // name of a version's folder; "" for none
	By         string    `json:"by,omitempty"`      // who made it so
	At         time.Time `json:"at,omitzero"`
	Was        []Turn    `json:"was,omitempty"` // what was current, and from when; the last one is the current one
	Versions   []Version `json:"versions,omitempty"`
	Unfinished []string  `json:"unfinished,omitempty"` // folders that an upload began

	// Unopened is the folder of the version that would be current, were what players read at the root still there; "" for none.
	Unopened string `json:"-"`

	page    []byte // at the root, where Havvel wrote it
	hasPage bool
	foreign bool // somebody else wrote the page at the root
}

// A Turn is the time from which a version was current.
type Turn struct {
	Folder string    `json:"folder"`
	At     time.Time `json:"at"`
}

// mostTurns are remembered.
const mostTurns = 50

// AtRoot reports whether the page at the root is the current version's own.
func (x *Index) AtRoot() bool { return root.Version(x.page) != "" }

// Page is the page at the root; nil where Havvel wrote none.
func (x *Index) Page() []byte { return x.page }

// Find returns the version in a folder, or nil.
func (x *Index) Find(folder string) *Version {
	if i := slices.IndexFunc(x.Versions, func(v Version) bool { return v.Folder == folder }); i >= 0 {
		return &x.Versions[i]
	}
	return nil
}

// LastSeen is when players could last come into a version; zero when they never could.
func (x *Index) LastSeen(folder string, now time.Time) time.Time {
	var last time.Time
	for i, t := range x.Was {
		switch {
		case t.Folder != folder:
		case i+1 < len(x.Was):
			last = x.Was[i+1].At
		default:
			last = now
		}
	}
	return last
}

// Hidden says that something is on a site and can't be read.
type Hidden struct {
	Name  string
	Cause error
}

func (e *Hidden) Error() string { return e.Name + " is on the site, and can't be read" }
func (e *Hidden) Unwrap() error { return e.Cause }

// Fault tells it.
func (e *Hidden) Fault() *fault.Error {
	return fault.Tell(e, fault.No, "nothing was changed; make it readable for this user and for the web server (mode 644, folders 755)")
}

// Index reads what there is. The folders of the versions themselves decide: one that the register doesn't name is read, and one that is
// gone is none. It is empty where nothing was sent yet; what can't be read is an error, and never taken for missing.
func (s *Site) Index(ctx context.Context) (*Index, error) {
	for try := 0; ; try++ {
		x, err := s.index(ctx)
		var hidden *Hidden
		if !errors.As(err, &hidden) || try == settling {
			return x, err
		}
		if err := s.rest(ctx, s.Patience/2, "the host lists "+hidden.Name+", and doesn't show it yet"); err != nil {
			return nil, err
		}
	}
}

// settling is how often what can't be read is asked for again: some hosts list what was just written before they show it.
const settling = 3

func (s *Site) rest(ctx context.Context, d time.Duration, why string) error {
	s.Report.Begin(why, 0)
	defer s.Report.End()
	select {
	case <-ctx.Done():
		return ctx.Err()
	case <-time.After(d):
		return nil
	}
}

func (s *Site) index(ctx context.Context) (*Index, error) {
	var front, register *Index
	var top, folders []string
	var noFolders error
	work, inside := errgroup.WithContext(ctx)
	work.Go(func() (err error) { top, err = s.Store.Names(inside, ""); return err })
	work.Go(func() error { folders, noFolders = s.Store.Names(inside, folderName); return nil })
	work.Go(func() (err error) { front, err = s.part(inside, indexName); return err })
	work.Go(func() (err error) { register, err = s.part(inside, registerName); return err })
	var page []byte
	var foreign bool
	work.Go(func() (err error) { page, foreign, err = s.page(inside); return err })
	if err := work.Wait(); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, err
	} else if err != nil {
		return nil, &Hidden{"its root", err}
	}
	for name, x := range map[string]*Index{indexName: front, registerName: register} {
		if x == nil && slices.Contains(top, name) {
			return nil, &Hidden{Name: name}
		}
	}
	switch {
	case noFolders != nil && !errors.Is(noFolders, fs.ErrNotExist):
		return nil, noFolders
	case noFolders != nil && slices.Contains(top, folderName):
		return nil, &Hidden{folderName, noFolders}
	}
	x := merged(front, register)
	x.page, x.hasPage, x.foreign = page, slices.Contains(top, pageName), foreign
	x.shown()
	return x, s.rebuild(ctx, x, folders)
}

// shown makes the version current that players get: that of the page at the root, also where a switch was cut off before the page came.
// Without that page they get none.
func (x *Index) shown() {
	folder, n := root.Version(x.page), len(x.Was)
	switch {
	case x.page == nil && (x.foreign || !x.hasPage):
		x.Current, x.By = "", ""
	case folder != "" && folder != x.Current:
		x.Was = slices.DeleteFunc(x.Was, func(t Turn) bool { return t.Folder == x.Current && t.At.Equal(x.At) })
		x.Current, x.By, x.At = folder, "", time.Time{}
		if n := len(x.Was); n > 0 && x.Was[n-1].Folder == folder {
			x.At = x.Was[n-1].At
		}
	}
	if x.Current == "" && n > 0 {
		x.Unopened = x.Was[n-1].Folder
	}
}

// part reads one of the two files; nil where it isn't there.
func (s *Site) part(ctx context.Context, name string) (*Index, error) {
	data, err := Read(ctx, s.Store, name)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	var x Index
	if err := json.Unmarshal(data, &x); err != nil || x.Format == 0 {
		return nil, &Foreign{name}
	}
	if x.Format > Format {
		return nil, fmt.Errorf("the site was written by a newer havvel (format %d); this one knows %d", x.Format, Format)
	}
	return &x, nil
}

// merged is what the two files say together. In format 1, the first said all.
func merged(front, register *Index) *Index {
	x := &Index{Format: Format}
	for _, part := range []*Index{register, front} {
		if part == nil {
			continue
		}
		for _, v := range part.Versions {
			if x.Find(v.Folder) == nil {
				x.Versions = append(x.Versions, v)
			}
		}
		x.Unfinished = append(x.Unfinished, part.Unfinished...)
	}
	if front == nil && register != nil {
		x.Was = register.Was
	}
	if front != nil {
		x.Current, x.By, x.At, x.Was = front.Current, front.By, front.At, front.Was
		if front.Format == 1 {
			x.takeOver(front.Versions)
		}
	}
	return x
}

// takeOver remembers what was public in format 1, which knew no times.
func (x *Index) takeOver(versions []Version) {
	for _, v := range versions {
		if v.Public && v.Folder != x.Current {
			x.Was = append(x.Was, Turn{v.Folder, v.Sent})
		}
	}
	slices.SortFunc(x.Was, func(a, b Turn) int { return a.At.Compare(b.At) })
	if v := x.Find(x.Current); v != nil {
		x.Was = append(x.Was, Turn{v.Folder, v.Sent})
	}
}

// rebuild makes the versions those whose folders are there.
func (s *Site) rebuild(ctx context.Context, x *Index, folders []string) error {
	x.Versions = slices.DeleteFunc(x.Versions, func(v Version) bool { return !slices.Contains(folders, v.Folder) })
	for _, folder := range folders {
		if x.Find(folder) != nil || slices.Contains(x.Unfinished, folder) {
			continue
		}
		c, err := s.Contents(ctx, folder)
		if err != nil {
			return err
		}
		if c == nil {
			continue // not complete, or none of ours
		}
		v := Version{Folder: folder, Version: c.Version, Fingerprint: c.Fingerprint, Sent: c.Sent, Files: len(c.Files)}
		for _, h := range c.Files {
			v.Bytes += h.Bytes
		}
		x.Versions = append(x.Versions, v)
	}
	slices.SortStableFunc(x.Versions, func(a, b Version) int { return cmp.Compare(a.Sent.UnixNano(), b.Sent.UnixNano()) })
	if v := x.Find(x.Current); v != nil && (len(x.Was) == 0 || x.Was[len(x.Was)-1].Folder != x.Current) { // what said so was lost
		x.Was = append(x.Was, Turn{x.Current, v.Sent})
	}
	for i := range x.Versions {
		v := &x.Versions[i]
		v.Public = v.Folder == x.Current || slices.ContainsFunc(x.Was, func(t Turn) bool { return t.Folder == v.Folder })
	}
	return nil
}

// register writes which versions there are, and once more which were current: the loss of one file loses nothing.
func (s *Site) register(ctx context.Context, x *Index) error {
	out := Index{Format: Format, Was: x.Was, Versions: slices.Clone(x.Versions), Unfinished: x.Unfinished}
	for i := range out.Versions {
		out.Versions[i].Public = false
	}
	return s.write(ctx, registerName, &out)
}

// front writes which version is current: what players read.
func (s *Site) front(ctx context.Context, x *Index) error {
	return s.write(ctx, indexName, &Index{Format: Format, Current: x.Current, By: x.By, At: x.At, Was: x.Was})
}

func (s *Site) write(ctx context.Context, name string, x *Index) error {
	data, err := json.MarshalIndent(x, "", "  ")
	if err != nil {
		return err
	}
	return s.Store.Swap(ctx, small(name, append(data, '\n'), "application/json", "no-store"))
}
