// Package folder keeps a site in a folder of this machine, such as one that a web server serves or some program synchronises.
package folder

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"havvel/internal/atomicfile"
	"havvel/internal/deliver/site"
	"havvel/internal/disk"
	"havvel/internal/progress"
)

// Open returns the store in a folder, which is made if need be.
func Open(root string) (site.Store, error) {
	return on(disk.System, root)
}

func on(system disk.FS, root string) (site.Store, error) {
	if err := system.MkdirAll(root, 0o755); err != nil {
		return nil, err
	}
	return store{root, system}, nil
}

type store struct {
	root string
	fs   disk.FS
}

func (s store) path(name string) string { return filepath.Join(s.root, filepath.FromSlash(name)) }

func (s store) Lanes() int   { return 2 }
func (s store) Close() error { return nil }

const part = ".havvel-part"

func (s store) List(ctx context.Context, folder string, _ ...string) (map[string]int64, error) {
	sizes := map[string]int64{}
	root := s.path(folder)
	err := filepath.WalkDir(root, func(at string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() || strings.HasSuffix(at, part) {
			return err
		}
		if err := ctx.Err(); err != nil {
			return err
		}
		info, err := d.Info()
		if err != nil {
			return err
		}
		name, err := filepath.Rel(root, at)
		sizes[filepath.ToSlash(name)] = info.Size()
		return err
	})
	if errors.Is(err, fs.ErrNotExist) {
		return sizes, nil
	}
	return sizes, err
}

func (s store) Names(_ context.Context, folder string) ([]string, error) {
	entries, err := os.ReadDir(s.path(folder))
	names := make([]string, len(entries))
	for i, e := range entries {
		names[i] = e.Name()
	}
	return names, err
}

func (s store) Fetch(ctx context.Context, name string, to io.Writer) error {
	f, err := os.Open(s.path(name))
	if err != nil {
		return err
	}
	defer f.Close()
	_, err = io.Copy(to, progress.Reader(ctx, f, progress.None))
	return err
}

func (s store) Put(ctx context.Context, f site.File, sent func(int64)) error {
	to := s.path(f.Name)
	if err := s.fs.MkdirAll(filepath.Dir(to), 0o755); err != nil {
		return err
	}
	from, err := f.Open()
	if err != nil {
		return err
	}
	defer from.Close()
	w, err := s.fs.OpenFile(to+part, os.O_CREATE|os.O_RDWR|os.O_TRUNC, 0o644)
	if err != nil {
		return err
	}
	n, err := io.Copy(w, progress.Reader(ctx, from, progress.Count(sent)))
	if err == nil && n != f.Bytes {
		err = fmt.Errorf("%s changed while it was sent", f.Name)
	}
	if err == nil {
		err = w.Sync()
	}
	if closed := w.Close(); err == nil {
		err = closed
	}
	if err == nil {
		err = s.fs.Rename(to+part, to)
	}
	if err != nil {
		s.fs.Remove(to + part)
	}
	return err
}

// Copy makes another name for the same file: versions never change.
func (s store) Copy(_ context.Context, from, to string) error {
	if err := os.MkdirAll(filepath.Dir(s.path(to)), 0o755); err != nil {
		return err
	}
	if err := os.Link(s.path(from), s.path(to)); errors.Is(err, fs.ErrNotExist) {
		return fs.ErrNotExist
	} else if err != nil {
		return errors.ErrUnsupported // the file system can't, or it is there
	}
	return nil
}

func (s store) Swap(_ context.Context, f site.File) error {
	r, err := f.Open()
	if err != nil {
		return err
	}
	defer r.Close()
	if err := s.fs.SyncTree(s.root); err != nil { // what the file names must be there when it is
		return err
	}
	return atomicfile.Writer{FS: s.fs}.File(s.path(f.Name), 0o644, func(w disk.File) error { _, err := io.Copy(w, r); return err })
}

func (s store) Claim(_ context.Context, name string) error { return os.Mkdir(s.path(name), 0o755) }

func (s store) Remove(_ context.Context, name string) error { return os.RemoveAll(s.path(name)) }

// Sum implements site.Summer.
func (s store) Sum(ctx context.Context, name string) (string, error) {
	f, err := os.Open(s.path(name))
	if err != nil {
		return "", err
	}
	defer f.Close()
	h := sha256.New()
	if _, err := io.Copy(h, progress.Reader(ctx, f, progress.None)); err != nil {
		return "", err
	}
	return hex.EncodeToString(h.Sum(nil)), nil
}
