package site

import (
	"context"
	"encoding/json"
	"path"
	"slices"

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
	l, there, err := s.prepare(ctx, x, p.Folder)
	if err != nil {
		return sent, err
	}
	about := Contents{Format: Format, Version: p.Version, Fingerprint: p.Fingerprint, Sent: s.Now().UTC(), Stand: p.Stand}
	if sent, err = s.upload(ctx, l, p, about, there, report); err != nil {
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

// prepare has the register name a folder before it is made, and finds out what is there: in earlier versions, and of an earlier try.
func (s *Site) prepare(ctx context.Context, x *Index, folder string) (l *load, there map[string]int64, err error) {
	var before []earlier
	work, inside := errgroup.WithContext(ctx)
	work.Go(func() (err error) { before, err = s.before(inside, x); return err })
	work.Go(func() (err error) { there, err = s.Store.List(inside, path.Join(folderName, folder)); return err })
	if x.Find(folder) == nil && !slices.Contains(x.Unfinished, folder) {
		x.Unfinished = append(x.Unfinished, folder)
		work.Go(func() error { return s.register(inside, x) })
	}
	if err := work.Wait(); err != nil {
		return nil, nil, err
	}
	return newLoad(s, before), there, nil
}

// upload brings every file there, looks at all of it, and writes the list that says that the version is complete.
func (s *Site) upload(
	ctx context.Context, l *load, p Parcel, about Contents, there map[string]int64, report progress.Reporter,
) (Sent, error) {
	root := path.Join(folderName, p.Folder)
	there, grafted, err := s.there(ctx, l, p, root, there)
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
	report.Begin("sending", total)
	defer report.End()
	l.report = report
	files := slices.Clone(p.Files)
	slices.SortStableFunc(
		files,
		func(a, b File) int { return int(min(1, max(-1, b.Bytes-a.Bytes))) },
	) // the large ones first, so that lanes end together
	work, inside := errgroup.WithContext(ctx)
	work.SetLimit(s.lanes())
	for _, f := range files {
		if size, ok := there[f.Name]; ok && size == f.Bytes {
			l.note(func(s *Sent) {
				if grafted {
					s.Copied++
				} else {
					s.Kept++
				}
			})
			report.Advance(f.Bytes)
			continue
		}
		f.There, f.Name = there[f.Name], path.Join(root, f.Name)
		work.Go(func() error { return l.bring(inside, f) })
	}
	if err := work.Wait(); err != nil {
		if ctx.Err() != nil {
			err = context.Cause(ctx)
		}
		return l.sent, err
	}
	if err := s.settle(ctx, l, p, about.Files); err != nil {
		return l.sent, err
	}
	return l.sent, s.Store.Swap(ctx, small(path.Join(root, listName), data, "application/json", "no-cache"))
}

// settle makes what is in a version's folder what was to be sent: what was copied from an earlier version that isn't whole is sent, and
// what came with such a copy goes.
func (s *Site) settle(ctx context.Context, l *load, p Parcel, want []Held) error {
	broken, others, err := s.compare(ctx, p.Folder, want)
	if err != nil || len(broken) == 0 && len(others) == 0 {
		return err
	}
	root := path.Join(folderName, p.Folder)
	work, inside := errgroup.WithContext(ctx)
	work.SetLimit(s.lanes())
	for _, name := range others {
		work.Go(func() error { return s.Store.Remove(inside, path.Join(root, name)) })
	}
	for _, b := range broken {
		f := p.Files[slices.IndexFunc(p.Files, func(f File) bool { return f.Name == b.File })]
		f.Name = path.Join(root, f.Name)
		work.Go(func() error { return l.put(inside, f) })
	}
	if err := work.Wait(); err != nil || len(broken) == 0 {
		return err
	}
	if broken, _, err = s.compare(ctx, p.Folder, want); err == nil && len(broken) > 0 {
		err = broken[0]
	}
	return err
}

// there are the files of a version that are on the host: those that an earlier try brought, or, at the first try, those that the host
// copies from an earlier version.
func (s *Site) there(
	ctx context.Context, l *load, p Parcel, root string, listed map[string]int64,
) (there map[string]int64, grafted bool, err error) {
	if there = listed; len(there) == 0 {
		if there, err = l.graft(ctx, p, root); err != nil {
			return nil, false, err
		}
		grafted = len(there) > 0
	}
	if there[pageName] == int64(len(ledOn)) { // perhaps what prune left
		delete(there, pageName)
	}
	return there, grafted, nil
}

// lanes is how many files travel at once.
func (s *Site) lanes() int {
	if n := s.Store.Lanes(); s.Lanes == 0 || n < s.Lanes {
		return n
	}
	return s.Lanes
}
