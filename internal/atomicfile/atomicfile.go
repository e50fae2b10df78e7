// Package atomicfile puts files where they belong whole or not at all: a file is written beside its final
// name and moved there at the end, so that a full disk or a stopped program leaves the earlier file.
package atomicfile

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strconv"
	"strings"

	"syscall"

	"havvel/internal/disk"
	"havvel/internal/fault"
)

// A Writer writes to a file system. The zero value writes to this machine's.
type Writer struct{ FS disk.FS }

func (w Writer) fs() disk.FS {
	if w.FS == nil {
		return disk.System
	}
	return w.FS
}

// File makes the file at path, with mode 0644, from what write writes; write may also read back what it
// wrote. Folders above it are made. When write fails, path is as it was before. When File returns nil, the file outlives a power cut.
func File(path string, write func(disk.File) error) error { return Writer{}.File(path, 0o644, write) }

// File makes a file as the function File does, with another mode.
func (w Writer) File(path string, mode fs.FileMode, write func(disk.File) error) error {
	if err := w.make(path, mode, true, write); err != nil {
		return err
	}
	if err := w.fs().SyncNames(filepath.Dir(path)); err != nil {
		return fmt.Errorf("writing %s: %w", path, err)
	}
	return nil
}

// Again makes the file at path, with mode 0644, as File does, but doesn't wait for the disk: it is for what can be made
// again after the power was cut.
func Again(path string, write func(disk.File) error) error {
	return Writer{}.make(path, 0o644, false, write)
}

// Bytes makes the file at path, with mode 0644, from data.
func Bytes(path string, data []byte) error { return Writer{}.Bytes(path, 0o644, data) }

// Bytes makes a file as the function Bytes does, with another mode.
func (w Writer) Bytes(path string, mode fs.FileMode, data []byte) error {
	return w.File(path, mode, func(f disk.File) error {
		if _, err := f.Write(data); err != nil {
			return fmt.Errorf("writing %s: %w", path, err)
		}
		return nil
	})
}

// make writes a file beside its name, and gives it the name. lasts waits until the content has reached the disk, which must be before
// the name does.
func (w Writer) make(path string, mode fs.FileMode, lasts bool, write func(disk.File) error) error {
	system := w.fs()
	if err := system.MkdirAll(filepath.Dir(path), 0o755); err != nil {
		return fmt.Errorf("making the folder for %s: %w", path, err)
	}
	Sweep(path)
	f, err := system.CreateTemp(filepath.Dir(path), Beside(path))
	if err != nil {
		return fmt.Errorf("writing %s: %w", path, err)
	}
	defer system.Remove(f.Name()) // what was there before, or nothing
	err = write(f)
	if err == nil && lasts {
		err = f.Sync()
	}
	if closed := f.Close(); err == nil {
		err = closed
	}
	if err != nil {
		return named(err, path, f.Name())
	}
	if err = system.Chmod(f.Name(), mode); err == nil && (lasts || system.Exchange(f.Name(), path) != nil) {
		err = system.Rename(f.Name(), path)
	}
	if err != nil {
		return fmt.Errorf("writing %s: %w", path, err)
	}
	return nil
}

// Folder makes the folder at path from what write writes into a new one, and waits for the disk once, where the system can. When write
// fails, path is as it was before; what was there before is taken away at the end.
func Folder(path string, write func(folder string) error) error { return Writer{}.Folder(path, write) }

// Folder makes a folder as the function Folder does.
func (w Writer) Folder(path string, write func(folder string) error) error {
	system := w.fs()
	path = filepath.Clean(path)
	if err := system.MkdirAll(filepath.Dir(path), 0o755); err != nil {
		return fmt.Errorf("making the folder for %s: %w", path, err)
	}
	Sweep(path)
	fresh, err := system.MkdirTemp(filepath.Dir(path), Beside(path))
	if err != nil {
		return fmt.Errorf("writing %s: %w", path, err)
	}
	defer system.RemoveAll(fresh) // what was there before, or nothing
	if err := system.Chmod(fresh, 0o755); err != nil {
		return fmt.Errorf("writing %s: %w", path, err)
	}
	if err := write(fresh); err != nil {
		return err
	}
	if err := system.SyncTree(fresh); err != nil {
		return fmt.Errorf("writing %s: %w", path, err)
	}
	if system.Exchange(fresh, path) == nil {
		return nil
	}
	old := fresh + "-old"
	had := system.Rename(path, old) == nil
	if err := system.Rename(fresh, path); err != nil {
		if had {
			err = errors.Join(err, system.Rename(old, path))
		}
		return fmt.Errorf("writing %s: %w", path, err)
	}
	return system.RemoveAll(old)
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

// named gives an error about the file beside path the name that people know.
func named(err error, path, beside string) error {
	var failed *fs.PathError
	if errors.As(err, &failed) && failed.Path == beside {
		return fmt.Errorf("writing %s: %w", path, failed.Err)
	}
	return err
}

// Unwritable reports whether an error says that a place can't be written to: it is full, must not be written to, or something else is
// there.
func Unwritable(err error) bool {
	var failed *fs.PathError
	return fault.FullDisk(err) || errors.Is(err, fs.ErrPermission) ||
		errors.As(err, &failed) &&
			(errors.Is(err, syscall.EROFS) || errors.Is(err, syscall.ENOTDIR) || errors.Is(err, syscall.EEXIST) || errors.Is(err, syscall.ENOENT))
}
