package files

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"time"
)

type folder struct{ at string }

func openFolder(at string) (Store, error) {
	if err := os.MkdirAll(filepath.Join(at, "scratch"), 0o750); err != nil {
		return nil, fmt.Errorf("making the host's folder: %w", err)
	}
	s := &folder{at}
	return s, s.tidy()
}

// stale is how old a file in scratch is that nobody writes any more.
const stale = 24 * time.Hour

// tidy takes away what hosts left in scratch that were killed. What is younger may be on its way to another host.
func (s *folder) tidy() error {
	left, err := os.ReadDir(filepath.Join(s.at, "scratch"))
	if err != nil {
		return fmt.Errorf("reading the host's folder: %w", err)
	}
	for _, e := range left {
		if info, err := e.Info(); err == nil && time.Since(info.ModTime()) > stale {
			os.Remove(filepath.Join(s.at, "scratch", e.Name())) // it only takes room
		}
	}
	return nil
}

func (s *folder) path(name string) string { return filepath.Join(s.at, filepath.FromSlash(name)) }

func (s *folder) Scratch() (*os.File, error) {
	return os.CreateTemp(filepath.Join(s.at, "scratch"), "arriving-*")
}

func (s *folder) Put(_ context.Context, name string, f *os.File) error {
	if err := f.Sync(); err != nil {
		return err
	}
	above := filepath.Dir(s.path(name))
	if err := os.MkdirAll(above, 0o750); err != nil {
		return err
	}
	if err := os.Rename(f.Name(), s.path(name)); err != nil {
		return err
	}
	return flush(above)
}

// flush makes names in a folder last, on systems where a folder can be flushed.
func flush(folder string) error {
	d, err := os.Open(folder)
	if err != nil {
		return err
	}
	defer d.Close()
	d.Sync() // some systems can't
	return nil
}

func (s *folder) Open(_ context.Context, name string) (io.ReadSeekCloser, error) {
	return os.Open(s.path(name))
}

func (s *folder) Size(_ context.Context, name string) (int64, error) {
	info, err := os.Stat(s.path(name))
	if err != nil {
		return 0, err
	}
	return info.Size(), nil
}

func (s *folder) Remove(_ context.Context, names ...string) error {
	for _, name := range names {
		if err := os.Remove(s.path(name)); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
		os.Remove(filepath.Dir(s.path(name))) // when it was the last; else the folder stays
	}
	return nil
}
