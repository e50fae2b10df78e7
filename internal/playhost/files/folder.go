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

	"havvel/internal/disk"
)

type folder struct {
	at  string
	fs  disk.FS
	now func() time.Time
}

func openFolder(at string) (Store, error) { return on(disk.System, at, time.Now) }

func on(system disk.FS, at string, now func() time.Time) (Store, error) {
	if err := system.MkdirAll(filepath.Join(at, "scratch"), 0o750); err != nil {
		return nil, fmt.Errorf("making the host's folder: %w", err)
	}
	s := &folder{at, system, now}
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
		if info, err := e.Info(); err == nil && s.now().Sub(info.ModTime()) > stale {
			s.fs.Remove(filepath.Join(s.at, "scratch", e.Name())) // it only takes room
		}
	}
	return nil
}

func (s *folder) path(name string) string { return filepath.Join(s.at, filepath.FromSlash(name)) }

func (s *folder) Scratch() (disk.File, error) {
	return s.fs.CreateTemp(filepath.Join(s.at, "scratch"), "arriving-*")
}

func (s *folder) Put(_ context.Context, name string, f disk.File) error {
	if err := f.Sync(); err != nil {
		return err
	}
	above := filepath.Dir(s.path(name))
	if err := s.fs.MkdirAll(above, 0o750); err != nil {
		return err
	}
	if err := s.fs.Rename(f.Name(), s.path(name)); err != nil {
		return err
	}
	for ; ; above = filepath.Dir(above) { // a folder's name lasts by the one that it stands in
		if err := s.fs.SyncNames(above); err != nil || above == s.at || above == filepath.Dir(above) {
			return err
		}
	}
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
		if err := s.fs.Remove(s.path(name)); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
		s.fs.Remove(filepath.Dir(s.path(name))) // when it was the last; else the folder stays
	}
	return nil
}
