// Package disk is the file system as it is needed to write what must last: the operations whose order decides what is left when a program
// is killed or the power is cut. Whatever writes such files is given one, so that a test can stand in for it (disktest).
package disk

import (
	"errors"
	"io"
	"io/fs"
	"os"
	"runtime"
)

// A File is an open file.
type File interface {
	io.ReadWriteSeeker
	io.ReaderAt
	io.WriterAt
	io.StringWriter
	io.Closer
	Name() string
	Stat() (fs.FileInfo, error)
	Truncate(size int64) error
	Chmod(mode fs.FileMode) error
	// Sync waits until the file's content has reached the disk; its name may not have.
	Sync() error
}

// An FS is a file system. Paths and errors are those of package os.
type FS interface {
	MkdirAll(path string, mode fs.FileMode) error
	MkdirTemp(folder, pattern string) (string, error)
	CreateTemp(folder, pattern string) (File, error)
	OpenFile(path string, flag int, mode fs.FileMode) (File, error)
	Chmod(path string, mode fs.FileMode) error
	Rename(from, to string) error
	// Exchange gives two paths each other's content in one step; errors.ErrUnsupported where that can't be.
	Exchange(a, b string) error
	Remove(path string) error
	RemoveAll(path string) error
	// SyncNames waits until the names in a folder have reached the disk, where a system can.
	SyncNames(folder string) error
	// SyncTree waits until all that was written below a folder has reached the disk, where a system can.
	SyncTree(folder string) error
}

// System is this machine's file system.
var System FS = system{}

type system struct{}

func (system) MkdirAll(path string, mode fs.FileMode) error     { return os.MkdirAll(path, mode) }
func (system) MkdirTemp(folder, pattern string) (string, error) { return os.MkdirTemp(folder, pattern) }
func (system) Chmod(path string, mode fs.FileMode) error        { return os.Chmod(path, mode) }
func (system) Rename(from, to string) error                     { return os.Rename(from, to) }
func (system) Exchange(a, b string) error                       { return exchange(a, b) }
func (system) Remove(path string) error                         { return os.Remove(path) }
func (system) RemoveAll(path string) error                      { return os.RemoveAll(path) }
func (system) SyncTree(folder string) error                     { return syncTree(folder) }

func (system) CreateTemp(folder, pattern string) (File, error) {
	f, err := os.CreateTemp(folder, pattern)
	if err != nil {
		return nil, err // not a File that holds nothing
	}
	return f, nil
}

func (system) OpenFile(path string, flag int, mode fs.FileMode) (File, error) {
	f, err := os.OpenFile(path, flag, mode)
	if err != nil {
		return nil, err
	}
	return f, nil
}

func (system) SyncNames(folder string) error {
	if runtime.GOOS == "windows" {
		return nil // names are kept in order there, and a folder can't be opened
	}
	d, err := os.Open(folder)
	if err != nil {
		return err
	}
	err = d.Sync()
	if errors.Is(err, errors.ErrUnsupported) || errors.Is(err, fs.ErrInvalid) {
		err = nil // a file system that can't
	}
	return errors.Join(err, d.Close())
}
