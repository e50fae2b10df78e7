// Package place puts files where they belong whole or not at all: a file is written beside its final
// name and moved there at the end, so that a full disk or a stopped program leaves the earlier file.
package place

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
)

// A pending file is written beside its final name.
type pending interface {
	file() *os.File
	// commit flushes the file to disk and moves it to its final name.
	commit() error
	// discard removes it. After commit it does nothing.
	discard() error
}

// File makes the file at path, with mode 0644, from what write writes; write may also read back what it
// wrote. Folders above it are made. When write fails, path is as it was before.
func File(path string, write func(*os.File) error) error {
	if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
		return fmt.Errorf("making the folder for %s: %w", path, err)
	}
	f, err := begin(path)
	if err != nil {
		return fmt.Errorf("writing %s: %w", path, err)
	}
	defer f.discard()
	if err := write(f.file()); err != nil {
		return named(err, path, f.file().Name())
	}
	if err := f.commit(); err != nil {
		return fmt.Errorf("writing %s: %w", path, err)
	}
	return nil
}

// Bytes makes the file at path, with mode 0644, from data.
func Bytes(path string, data []byte) error {
	return File(path, func(w *os.File) error {
		if _, err := w.Write(data); err != nil {
			return fmt.Errorf("writing %s: %w", path, err)
		}
		return nil
	})
}

// Folder makes the folder at path from what write writes into a new one. When write fails, path is as it was before; what
// was there before is taken away at the end.
func Folder(path string, write func(folder string) error) error {
	path = filepath.Clean(path)
	if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
		return fmt.Errorf("making the folder for %s: %w", path, err)
	}
	fresh, err := os.MkdirTemp(filepath.Dir(path), "."+filepath.Base(path)+"-new-*")
	if err != nil {
		return fmt.Errorf("writing %s: %w", path, err)
	}
	defer os.RemoveAll(fresh)
	if err := os.Chmod(fresh, 0o755); err != nil {
		return fmt.Errorf("writing %s: %w", path, err)
	}
	if err := write(fresh); err != nil {
		return err
	}
	old := fresh + "-old"
	had := os.Rename(path, old) == nil
	if err := os.Rename(fresh, path); err != nil {
		if had {
			err = errors.Join(err, os.Rename(old, path))
		}
		return fmt.Errorf("writing %s: %w", path, err)
	}
	return os.RemoveAll(old)
}

// Again makes the file at path, with mode 0644, as File does, but doesn't wait for the disk: it is for what can be made
// again after the power was cut.
func Again(path string, write func(*os.File) error) error {
	if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
		return fmt.Errorf("making the folder for %s: %w", path, err)
	}
	f, err := os.CreateTemp(filepath.Dir(path), "."+filepath.Base(path)+"-*")
	if err != nil {
		return fmt.Errorf("writing %s: %w", path, err)
	}
	defer os.Remove(f.Name()) // what was there before, or nothing
	err = write(f)
	if closed := f.Close(); err == nil && closed != nil {
		err = closed
	}
	if err != nil {
		return named(err, path, f.Name())
	}
	if err = os.Chmod(f.Name(), 0o644); err == nil && swap(f.Name(), path) != nil {
		err = os.Rename(f.Name(), path)
	}
	if err != nil {
		return fmt.Errorf("writing %s: %w", path, err)
	}
	return nil
}

// named gives an error about the file beside path the name that people know.
func named(err error, path, beside string) error {
	var failed *fs.PathError
	if errors.As(err, &failed) && failed.Path == beside {
		return fmt.Errorf("writing %s: %w", path, failed.Err)
	}
	return err
}

// Full reports whether an error says that a disk, or what one may keep on it, is full.
func Full(err error) bool {
	for _, e := range full {
		if errors.Is(err, e) {
			return true
		}
	}
	return false
}
