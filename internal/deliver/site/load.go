package site

import (
	"cmp"
	"context"
	"errors"
	"io"
	"io/fs"
	"maps"
	"path"
	"slices"
	"sync"
	"sync/atomic"

	"golang.org/x/sync/errgroup"

	"havvel/internal/pieces"
	"havvel/internal/progress"
)

// load is an upload under way.
type load struct {
	store    Store
	before   []earlier
	sketches pieces.Book
	report   progress.Reporter
	host     *Abilities
	cannot   sync.Map // abilities that the host turned out not to have

	names   map[string]string      // where contents should be on the host, by their SHA-256
	sources func() []pieces.Source // what is known of the pieces of large files there

	mu   sync.Mutex
	sent Sent
}

// An earlier version, and the files that it was sent with.
type earlier struct {
	folder string
	files  []Held
}

// before are the current version and the last one; none where nothing can be made from them.
func (s *Site) before(ctx context.Context, x *Index) ([]earlier, error) {
	_, copies := s.Store.(Copier)
	_, splices := s.Store.(Splicer)
	if !copies && !splices {
		return nil, nil
	}
	var list []earlier
	if x.Current != "" {
		list = append(list, earlier{folder: x.Current})
	}
	if n := len(x.Versions); n > 0 && x.Versions[n-1].Folder != x.Current {
		list = append(list, earlier{folder: x.Versions[n-1].Folder})
	}
	work, inside := errgroup.WithContext(ctx)
	for i := range list {
		work.Go(func() error {
			said, err := s.Contents(inside, list[i].folder)
			if err == nil && said != nil {
				list[i].files = said.Files
			}
			return err
		})
	}
	return list, work.Wait()
}

func newLoad(s *Site, before []earlier) *load {
	l := &load{store: s.Store, before: before, sketches: s.Sketches, report: progress.None, host: s.Abilities, names: map[string]string{}}
	for _, e := range before {
		for _, h := range e.files {
			l.names[h.SHA256] = path.Join(folderName, e.folder, h.Name)
		}
	}
	l.sources = sync.OnceValue(l.known)
	return l
}

// worthSplicing is the size from which on a file that changed is looked at for parts that didn't.
const worthSplicing = 1 << 20

// known are the large files on the host whose pieces are known.
func (l *load) known() (list []pieces.Source) {
	seen := map[string]bool{}
	for _, e := range l.before {
		for _, h := range e.files {
			if h.Bytes < worthSplicing || seen[h.SHA256] {
				continue
			}
			seen[h.SHA256] = true
			if s := l.sketches.Find(h.SHA256); s != nil {
				list = append(list, pieces.Source{Name: path.Join(folderName, e.folder, h.Name), Sketch: s})
			}
		}
	}
	return list
}

// bring has a file on the host: copied there, made from parts of others that are there, or sent.
func (l *load) bring(ctx context.Context, f File) error {
	if from, ok := l.names[f.SHA256]; ok && f.Bytes > 0 {
		if done, err := l.copy(ctx, from, f); done || err != nil {
			return err
		}
	}
	if _, can := l.store.(Splicer); can && f.Bytes >= worthSplicing && l.sketches.Folder != "" {
		return l.bringLarge(ctx, f)
	}
	return l.put(ctx, f)
}

func (l *load) put(ctx context.Context, f File) error {
	err := l.store.Put(ctx, f, l.out)
	if err == nil {
		l.note(func(s *Sent) { s.Files++ })
	}
	return err
}

func (l *load) copy(ctx context.Context, from string, f File) (done bool, err error) {
	by, ok := l.store.(Copier)
	if ok = ok && l.can(Copies); ok {
		err = by.Copy(ctx, from, f.Name)
		ok = l.learn(Copies, err)
	}
	switch {
	case errors.Is(err, fs.ErrNotExist): // the earlier version isn't whole any more
		return false, nil
	case ok:
		done = err == nil
	case f.Bytes >= worthSplicing:
		done, err = l.splice(ctx, f, []pieces.Range{{Bytes: f.Bytes, From: from}})
	default:
		err = nil
	}
	if done {
		l.note(func(s *Sent) { s.Copied++ })
	}
	return done, err
}

// splice has the host make a file from parts; done is false where it can't.
func (l *load) splice(ctx context.Context, f File, from []pieces.Range) (done bool, err error) {
	by, ok := l.store.(Splicer)
	if !ok || !l.can(Splices) {
		return false, nil
	}
	var out atomic.Int64
	err = by.Splice(ctx, f, from, func(n int64) { out.Add(n); l.out(n) })
	if !l.learn(Splices, err) {
		l.out(-out.Load())
		return false, nil
	}
	if err == nil {
		l.report.Advance(f.Bytes - out.Load())
	}
	return err == nil, err
}

// bringLarge sends what no file of the host has, and remembers which pieces the file consists of.
func (l *load) bringLarge(ctx context.Context, f File) error {
	var sketch pieces.Sketch
	if from := l.sources(); len(from) > 0 {
		var err error
		if sketch, err = l.sketch(ctx, f); err != nil {
			return err
		}
		if ranges := pieces.Plan(sketch, from); slices.ContainsFunc(ranges, func(r pieces.Range) bool { return r.From != "" }) {
			done, err := l.splice(ctx, f, ranges)
			if done {
				l.note(func(s *Sent) { s.Files++ })
			}
			if done || err != nil {
				return err
			}
		}
	}
	work, inside := errgroup.WithContext(ctx)
	work.Go(func() error { return l.put(inside, f) })
	if sketch == nil {
		work.Go(func() error { _, err := l.sketch(inside, f); return err })
	}
	return work.Wait()
}

// sketch says which pieces a file consists of. It is kept for the next version; where it can't be, the next one travels whole.
func (l *load) sketch(ctx context.Context, f File) (pieces.Sketch, error) {
	if s := l.sketches.Find(f.SHA256); s != nil {
		return s, nil
	}
	from, err := f.Open()
	if err != nil {
		return nil, err
	}
	defer from.Close()
	s, err := pieces.Draw(progress.Reader(ctx, io.LimitReader(from, f.Bytes), progress.None))
	if err == nil {
		l.sketches.Keep(f.SHA256, s)
	}
	return s, err
}

// can reports whether the host may have an ability.
func (l *load) can(ability string) bool {
	_, no := l.cannot.Load(ability)
	return !no && l.host.Can(ability)
}

// learn notes whether the host can do something, by the error of doing it. It is false where it can't.
func (l *load) learn(ability string, err error) bool {
	switch {
	case errors.Is(err, errors.ErrUnsupported):
		l.cannot.Store(ability, true)
		l.host.Note(ability, 0)
		return false
	case err == nil:
		l.host.Note(ability, 1)
	}
	return true
}

func (l *load) out(n int64) {
	l.note(func(s *Sent) { s.Bytes += n })
	l.report.Advance(n)
}

func (l *load) note(change func(*Sent)) {
	l.mu.Lock()
	defer l.mu.Unlock()
	change(&l.sent)
}

// graft has the host copy the earlier version that has most of a version's files in one go, without what is other in this one, and
// lists what should be there then. Where the host can't, or little would be gained, nothing happens.
func (l *load) graft(ctx context.Context, p Parcel, to string) (map[string]int64, error) {
	by, ok := l.store.(Grafter)
	if !ok || len(l.before) == 0 || !l.can(Grafts) {
		return nil, nil
	}
	want := map[string]string{}
	for _, f := range p.Files {
		want[f.Name] = f.SHA256
	}
	same := func(e earlier) (n int) {
		for _, h := range e.files {
			if want[h.Name] == h.SHA256 {
				n++
			}
		}
		return n
	}
	best := slices.MaxFunc(l.before, func(a, b earlier) int { return cmp.Compare(same(a), same(b)) })
	without, there := []string{listName}, map[string]int64{}
	var bytes int64
	for _, h := range best.files {
		bytes += h.Bytes
		if want[h.Name] == h.SHA256 {
			there[h.Name] = h.Bytes
		} else {
			without = append(without, h.Name)
		}
	}
	if n := len(there); n < leastGrafted || n < 2*len(without) || bytes > mostGrafted {
		return nil, nil
	}
	err := by.Graft(ctx, path.Join(folderName, best.folder), to, without, foldersOf(slices.Collect(maps.Keys(there))))
	if !l.learn(Grafts, err) || errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	return there, err
}

// What is copied in one go: from so many files on it is worth its two more requests, and up to so many bytes, since a host says nothing
// until it is done.
const (
	leastGrafted = 8
	mostGrafted  = 1 << 30
)
