package site

import (
	"context"
	"encoding/json"
	"errors"
	"path"
	"slices"
	"sync"

	"golang.org/x/sync/errgroup"

	"havvel/internal/progress"
)

// A Parcel is a version to be kept.
type Parcel struct {
	Folder      string
	Version     string
	Fingerprint string
	Stand       Stand
	Files       []File // names inside of the version's folder
}

// Sent says what an upload took.
type Sent struct {
	Files, Copied, Kept int   // uploaded; copied on the host; there from an earlier try
	Bytes               int64 // uploaded
}

// Send uploads a version into a folder of its own. Nothing that players read is written: nobody sees it before Switch. What a broken
// upload left is gone on from.
func (s *Site) Send(ctx context.Context, p Parcel, report progress.Reporter) (sent Sent, err error) {
	err = s.alone(ctx, func(ctx context.Context) error {
		sent, err = s.send(ctx, p, report)
		return err
	})
	return sent, err
}

func (s *Site) send(ctx context.Context, p Parcel, report progress.Reporter) (Sent, error) {
	var sent Sent
	x, err := s.Index(ctx)
	if err != nil {
		return sent, err
	}
	if err := s.ours(x); err != nil { // before anything is sent: it tells whether the place is ours
		return sent, err
	}
	known, err := s.known(ctx, x)
	if err != nil {
		return sent, err
	}
	if x.Find(p.Folder) == nil && !slices.Contains(x.Unfinished, p.Folder) {
		x.Unfinished = append(x.Unfinished, p.Folder)
		if err := s.register(ctx, x); err != nil {
			return sent, err
		}
	}
	about := Contents{Format: Format, Version: p.Version, Fingerprint: p.Fingerprint, Sent: s.Now().UTC(), Stand: p.Stand}
	if sent, err = s.upload(ctx, p, about, known, report); err != nil {
		return sent, err
	}
	v := Version{Folder: p.Folder, Version: p.Version, Fingerprint: p.Fingerprint, Sent: about.Sent, Files: len(p.Files)}
	for _, f := range p.Files {
		v.Bytes += f.Bytes
	}
	x.Versions = append(slices.DeleteFunc(x.Versions, func(o Version) bool { return o.Folder == p.Folder }), v)
	x.Unfinished = slices.DeleteFunc(x.Unfinished, func(f string) bool { return f == p.Folder })
	return sent, s.register(ctx, x)
}

// known lists where contents are on the host, by their SHA-256: in the current version and the last one.
func (s *Site) known(ctx context.Context, x *Index) (map[string]string, error) {
	var look []string
	if x.Current != "" {
		look = append(look, x.Current)
	}
	if n := len(x.Versions); n > 0 && x.Versions[n-1].Folder != x.Current {
		look = append(look, x.Versions[n-1].Folder)
	}
	said := make([]*Contents, len(look))
	work, inside := errgroup.WithContext(ctx)
	for i, folder := range look {
		work.Go(func() (err error) { said[i], err = s.Contents(inside, folder); return err })
	}
	if err := work.Wait(); err != nil {
		return nil, err
	}
	known := map[string]string{}
	for i, c := range said {
		if c == nil {
			continue
		}
		for _, h := range c.Files {
			known[h.SHA256] = path.Join(folderName, look[i], h.Name)
		}
	}
	return known, nil
}

// upload brings every file there, looks at all of it, and writes the list that says that the version is complete.
func (s *Site) upload(
	ctx context.Context, p Parcel, about Contents, known map[string]string, report progress.Reporter,
) (Sent, error) {
	root := path.Join(folderName, p.Folder)
	there, err := s.Store.List(ctx, root)
	if err != nil {
		return Sent{}, err
	}
	var total int64
	for _, f := range p.Files {
		about.Files = append(about.Files, Held{f.Name, f.Bytes, f.SHA256})
		total += f.Bytes
	}
	data, err := json.Marshal(about)
	if err != nil {
		return Sent{}, err
	}
	if there[pageName] == int64(len(ledOn)) { // perhaps what prune left
		delete(there, pageName)
	}
	report.Begin("sending", total)
	defer report.End()
	l := &load{store: s.Store, known: known, report: report}
	files := slices.Clone(p.Files)
	slices.SortStableFunc(
		files,
		func(a, b File) int { return int(min(1, max(-1, b.Bytes-a.Bytes))) },
	) // the large ones first, so that lanes end together
	work, inside := errgroup.WithContext(ctx)
	work.SetLimit(s.lanes())
	for _, f := range files {
		if size, ok := there[f.Name]; ok && size == f.Bytes { // an earlier try brought it there
			l.note(func(s *Sent) { s.Kept++ })
			report.Advance(f.Bytes)
			continue
		}
		f.Name = path.Join(root, f.Name)
		work.Go(func() error { return l.bring(inside, f) })
	}
	if err := work.Wait(); err != nil {
		if ctx.Err() != nil {
			err = context.Cause(ctx)
		}
		return l.sent, err
	}
	if err := s.compare(ctx, p.Folder, about.Files); err != nil {
		return l.sent, err
	}
	return l.sent, s.Store.Swap(ctx, small(path.Join(root, listName), data, "application/json", "no-cache"))
}

// lanes is how many files travel at once.
func (s *Site) lanes() int {
	if n := s.Store.Lanes(); s.Lanes == 0 || n < s.Lanes {
		return n
	}
	return s.Lanes
}

// load is an upload under way.
type load struct {
	store  Store
	known  map[string]string
	report progress.Reporter

	mu   sync.Mutex
	sent Sent
}

func (l *load) bring(ctx context.Context, f File) error {
	if from, ok := l.known[f.SHA256]; ok && f.Bytes > 0 {
		err := l.store.Copy(ctx, from, f.Name)
		if err == nil {
			l.note(func(s *Sent) { s.Copied++ })
			l.report.Advance(f.Bytes)
			return nil
		}
		if !errors.Is(err, errors.ErrUnsupported) {
			return err
		}
	}
	err := l.store.Put(ctx, f, func(n int64) {
		l.note(func(s *Sent) { s.Bytes += n })
		l.report.Advance(n)
	})
	if err == nil {
		l.note(func(s *Sent) { s.Files++ })
	}
	return err
}

func (l *load) note(change func(*Sent)) {
	l.mu.Lock()
	defer l.mu.Unlock()
	change(&l.sent)
}
