package site

import (
	"context"
	"errors"
	"io/fs"
	"path"
	"sync"

	"golang.org/x/sync/errgroup"
)

// An Entry is what a listing of one folder tells of one name.
type Entry struct {
	Name   string
	Folder bool
	Bytes  int64
}

// Walk lists a folder and all below it on a host that lists one folder at a time, several at once. list is called with names relative to
// the folder, "" for itself; those that are likely there are listed before the folders above them were. A folder that is not there has
// no files.
func Walk(
	ctx context.Context, lanes int, likely []string, list func(ctx context.Context, folder string) ([]Entry, error),
) (map[string]int64, error) {
	w := &walk{list: list, places: make(chan struct{}, max(1, lanes)), sizes: map[string]int64{}, seen: map[string]bool{}}
	w.work, ctx = errgroup.WithContext(ctx)
	for _, folder := range append([]string{""}, likely...) {
		w.visit(ctx, folder)
	}
	if err := w.work.Wait(); err != nil {
		return nil, err
	}
	return w.sizes, nil
}

type walk struct {
	list   func(context.Context, string) ([]Entry, error)
	work   *errgroup.Group
	places chan struct{}

	mu    sync.Mutex
	sizes map[string]int64
	seen  map[string]bool // folders
}

func (w *walk) visit(ctx context.Context, folder string) {
	w.mu.Lock()
	seen := w.seen[folder]
	w.seen[folder] = true
	w.mu.Unlock()
	if seen {
		return
	}
	w.work.Go(func() error {
		select {
		case w.places <- struct{}{}:
		case <-ctx.Done():
			return ctx.Err()
		}
		entries, err := w.list(ctx, folder)
		<-w.places
		if errors.Is(err, fs.ErrNotExist) {
			return nil
		}
		if err != nil {
			return err
		}
		for _, e := range entries {
			name := path.Join(folder, e.Name)
			if e.Folder {
				w.visit(ctx, name)
				continue
			}
			w.mu.Lock()
			w.sizes[name] = e.Bytes
			w.mu.Unlock()
		}
		return nil
	})
}

// foldersOf are the folders that files are in, and those above these.
func foldersOf(names []string) (list []string) {
	seen := map[string]bool{".": true}
	for _, name := range names {
		for folder := path.Dir(name); !seen[folder]; folder = path.Dir(folder) {
			seen[folder] = true
			list = append(list, folder)
		}
	}
	return list
}
