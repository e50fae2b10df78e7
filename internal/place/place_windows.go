package place

import (
	"os"
	"path/filepath"
)

// renameio has no Windows build; os.Rename there replaces a file in one step.
type besideFile struct {
	*os.File
	path string
	done bool
}

func begin(path string) (pending, error) {
	f, err := os.CreateTemp(filepath.Dir(path), ".havvel-*")
	if err != nil {
		return nil, err
	}
	return &besideFile{File: f, path: path}, nil
}

func (f *besideFile) file() *os.File { return f.File }

func (f *besideFile) commit() error {
	if err := f.Sync(); err != nil {
		return err
	}
	if err := f.Close(); err != nil {
		return err
	}
	if err := os.Rename(f.Name(), f.path); err != nil {
		return err
	}
	f.done = true
	return nil
}

func (f *besideFile) discard() error {
	if f.done {
		return nil
	}
	f.Close()
	return os.Remove(f.Name())
}
