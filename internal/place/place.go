// Package place puts files where they belong whole or not at all: a file is written beside its final
// name and moved there at the end, so that a full disk or a stopped program leaves the earlier file.
package place

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
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

// Folder makes the folder at path from what write writes into a new one, and waits for the disk once, where the system can. When write fails,
// path is as it was before; what was there before is taken away at the end.
func Folder(path string, write func(folder string) error) error {
	path = filepath.Clean(path)
	if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
		return fmt.Errorf("making the folder for %s: %w", path, err)
	}
	Sweep(path)
	fresh, err := os.MkdirTemp(filepath.Dir(path), Beside(path))
	if err != nil {
		return fmt.Errorf("writing %s: %w", path, err)
	}
	defer os.RemoveAll(fresh) // what was there before, or nothing
	if err := os.Chmod(fresh, 0o755); err != nil {
		return fmt.Errorf("writing %s: %w", path, err)
	}
	if err := write(fresh); err != nil {
		return err
	}
	if err := flush(fresh); err != nil {
		return fmt.Errorf("writing %s: %w", path, err)
	}
	if swap(fresh, path) == nil {
		return nil
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

// Beside is the pattern of names under which something is made until it takes its place. The number says which process does.
func Beside(path string) string { return fmt.Sprintf(".%s-%d-*", filepath.Base(path), os.Getpid()) }

// Sweep takes away what processes that are no more have left beside path.
func Sweep(path string) {
	left, _ := filepath.Glob(filepath.Join(filepath.Dir(path), "."+escape(filepath.Base(path))+"-*-*")) // the pattern is a good one
	for _, name := range left {
		number, _, _ := strings.Cut(strings.TrimPrefix(filepath.Base(name), "."+filepath.Base(path)+"-"), "-")
		if pid, err := strconv.Atoi(number); err == nil && pid > 0 && !alive(pid) {
			os.RemoveAll(name) // if it can't be taken away now, the next may
		}
	}
}

// escape makes a pattern that matches just this name.
func escape(name string) string {
	return strings.NewReplacer(`[`, `[[]`, `*`, `[*]`, `?`, `[?]`).Replace(name)
}

// Again makes the file at path, with mode 0644, as File does, but doesn't wait for the disk: it is for what can be made
// again after the power was cut.
func Again(path string, write func(*os.File) error) error {
	if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
		return fmt.Errorf("making the folder for %s: %w", path, err)
	}
	Sweep(path)
	f, err := os.CreateTemp(filepath.Dir(path), Beside(path))
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

// Unwritable reports whether an error says that a place can't be written to: it is full, must not be written to, or something else is there.
func Unwritable(err error) bool {
	var failed *fs.PathError
	return Full(err) || errors.Is(err, fs.ErrPermission) || errors.As(err, &failed) && (errors.Is(err, syscall.EROFS) || errors.Is(err, syscall.ENOTDIR) || errors.Is(err, syscall.EEXIST) || errors.Is(err, syscall.ENOENT))
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
