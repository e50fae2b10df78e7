// Package disktest has a file system that stops: after any operation, as when a program is killed, or with what had reached the disk by
// then, as when the power is cut.
package disktest

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"havvel/internal/disk"
)

// ErrStopped is the error of every operation after the last one.
var ErrStopped = errors.New("the test stopped the disk here")

// How says how a work is cut off.
type How string

// The ways.
const (
	Killed How = "killed" // all that was done is there
	Cut    How = "cut"    // only what was waited for is there: contents that were synced, and names in folders whose names were
	Torn   How = "torn"   // as Cut, but all names are there: a disk may keep them before the contents
)

// Stops does a work again and again, in a copy of a prepared folder each time, and stops it after its first operation, its second, and
// so on until it ends. Each time check looks at what is left. done says that the work had ended, and reported no error.
func Stops(
	t *testing.T,
	prepare func(folder string),
	work func(disk.FS, string) error,
	check func(t *testing.T, folder string, done bool),
) {
	t.Helper()
	stops(t, []How{Killed, Cut, Torn}, true, prepare, work, check)
}

// StopsFileByFile is Stops on a system that can't wait for a whole tree, and keeps names in order by itself.
func StopsFileByFile(
	t *testing.T,
	prepare func(folder string),
	work func(disk.FS, string) error,
	check func(t *testing.T, folder string, done bool),
) {
	t.Helper()
	stops(t, []How{Torn}, false, prepare, work, check)
}

func stops(
	t *testing.T,
	ways []How,
	trees bool,
	prepare func(string),
	work func(disk.FS, string) error,
	check func(*testing.T, string, bool),
) {
	t.Helper()
	for last := 0; ; last++ {
		for _, how := range ways {
			folder := t.TempDir()
			prepare(folder)
			d := &stopping{last: last, root: folder, trees: trees, content: map[string][]byte{}, names: map[string]string{}}
			d.remember(folder)
			err := work(d, folder)
			if err != nil && !errors.Is(err, ErrStopped) {
				t.Fatalf("after %d operations: %v\n%s", last, err, strings.Join(d.said, "\n"))
			}
			done := err == nil
			if how != Killed {
				d.cut(t, how)
			}
			t.Run(fmt.Sprintf("%s after %d", how, last), func(t *testing.T) {
				defer func() {
					if t.Failed() {
						t.Logf("what was done:\n%s", strings.Join(d.said, "\n"))
					}
				}()
				check(t, folder, done)
			})
			if done && !d.stopped {
				if how == Torn {
					return
				}
				continue
			}
		}
		if last > 10_000 {
			t.Fatal("the work does not end")
		}
	}
}

// stopping is a file system that stops, and knows what has reached the disk.
type stopping struct {
	root    string
	last, n int
	stopped bool
	trees   bool // it can wait for a whole tree
	said    []string
	content map[string][]byte // that reached the disk, by the identity of a file
	names   map[string]string // that reached the disk: path to identity
}

// identities of files are kept in their inodes' numbers.
func identity(path string) string {
	info, err := os.Lstat(path)
	if err != nil {
		return ""
	}
	return inode(info)
}

// remember takes everything below a folder as being on the disk.
func (d *stopping) remember(folder string) {
	filepath.WalkDir(folder, func(path string, e fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		id := identity(path)
		d.names[path] = id
		if !e.IsDir() {
			d.content[id], _ = os.ReadFile(path)
		}
		return nil
	})
}

// do counts an operation.
func (d *stopping) do(format string, args ...any) error {
	if d.n >= d.last {
		d.stopped = true
		return ErrStopped
	}
	d.n++
	d.said = append(d.said, strings.ReplaceAll(fmt.Sprintf(format, args...), d.root, ""))
	return nil
}

func (d *stopping) MkdirAll(path string, mode fs.FileMode) error {
	if err := d.do("make the folder %s", path); err != nil {
		return err
	}
	return os.MkdirAll(path, mode)
}

func (d *stopping) MkdirTemp(folder, pattern string) (string, error) {
	if err := d.do("make a folder in %s", folder); err != nil {
		return "", err
	}
	return os.MkdirTemp(folder, pattern)
}

func (d *stopping) CreateTemp(folder, pattern string) (disk.File, error) {
	if err := d.do("make a file in %s", folder); err != nil {
		return nil, err
	}
	f, err := os.CreateTemp(folder, pattern)
	if err != nil {
		return nil, err
	}
	delete(d.content, identity(f.Name())) // of a removed file, whose number it has
	return &file{File: f, disk: d}, nil
}

func (d *stopping) OpenFile(path string, flag int, mode fs.FileMode) (disk.File, error) {
	if err := d.do("open %s", path); err != nil {
		return nil, err
	}
	was := identity(path)
	f, err := os.OpenFile(path, flag, mode)
	if err != nil {
		return nil, err
	}
	if was == "" {
		delete(d.content, identity(path))
	}
	return &file{File: f, disk: d}, nil
}

func (d *stopping) Chmod(path string, mode fs.FileMode) error {
	if err := d.do("set the mode of %s", path); err != nil {
		return err
	}
	return os.Chmod(path, mode)
}

func (d *stopping) Rename(from, to string) error {
	if err := d.do("rename %s to %s", from, to); err != nil {
		return err
	}
	return os.Rename(from, to)
}

func (d *stopping) Exchange(a, b string) error {
	if err := d.do("exchange %s and %s", a, b); err != nil {
		return err
	}
	return disk.System.Exchange(a, b)
}

func (d *stopping) Remove(path string) error {
	if err := d.do("remove %s", path); err != nil {
		return err
	}
	return os.Remove(path)
}

func (d *stopping) RemoveAll(path string) error {
	if err := d.do("remove all of %s", path); err != nil {
		return err
	}
	return os.RemoveAll(path)
}

func (d *stopping) SyncNames(folder string) error {
	if err := d.do("sync the names in %s", folder); err != nil {
		return err
	}
	for path := range d.names {
		if filepath.Dir(path) == folder {
			delete(d.names, path)
		}
	}
	entries, err := os.ReadDir(folder)
	for _, e := range entries {
		path := filepath.Join(folder, e.Name())
		d.names[path] = identity(path)
	}
	return err
}

func (d *stopping) SyncTree(folder string) error {
	if err := d.do("sync all below %s", folder); err != nil {
		return err
	}
	if d.trees {
		d.remember(d.root) // it is the whole file system
	}
	return nil
}

// file is an open file whose content reaches the disk when it is synced.
type file struct {
	*os.File
	disk *stopping
}

func (f *file) Write(p []byte) (int, error) {
	if err := f.disk.do("write %d bytes to %s", len(p), f.Name()); err != nil {
		n, _ := f.File.Write(p[:len(p)/2]) // a write may be cut short
		return n, err
	}
	return f.File.Write(p)
}

func (f *file) WriteAt(p []byte, at int64) (int, error) {
	if err := f.disk.do("write %d bytes to %s at %d", len(p), f.Name(), at); err != nil {
		n, _ := f.File.WriteAt(p[:len(p)/2], at)
		return n, err
	}
	return f.File.WriteAt(p, at)
}

func (f *file) Truncate(size int64) error {
	if err := f.disk.do("cut %s to %d bytes", f.Name(), size); err != nil {
		return err
	}
	return f.File.Truncate(size)
}

func (f *file) WriteString(s string) (int, error) { return f.Write([]byte(s)) }

func (f *file) Sync() error {
	if err := f.disk.do("sync %s", f.Name()); err != nil {
		return err
	}
	data, err := os.ReadFile(f.Name())
	f.disk.content[identity(f.Name())] = data
	return err
}

// cut leaves what reached the disk.
func (d *stopping) cut(t *testing.T, how How) {
	t.Helper()
	names := d.names
	if how == Torn {
		names = map[string]string{}
		filepath.WalkDir(d.root, func(path string, _ fs.DirEntry, err error) error {
			if err == nil {
				names[path] = identity(path)
			}
			return err
		})
	}
	folders, contents := d.reached(names)
	entries, err := os.ReadDir(d.root)
	if err != nil {
		t.Fatal(err)
	}
	for _, e := range entries {
		os.RemoveAll(filepath.Join(d.root, e.Name()))
	}
	for path := range folders {
		if !d.lost(path, names) {
			os.MkdirAll(path, 0o755)
		}
	}
	for path, data := range contents {
		if d.lost(path, names) {
			continue
		}
		if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(path, data, 0o644); err != nil {
			t.Fatal(err)
		}
	}
}

// reached tells folders from files among the names that reached the disk, and what is in the files.
func (d *stopping) reached(names map[string]string) (folders map[string]bool, contents map[string][]byte) {
	folders, contents = map[string]bool{}, map[string][]byte{}
	for path, id := range names {
		if data, ok := d.content[id]; ok {
			contents[path] = data
		} else if info, err := os.Lstat(path); err == nil && info.IsDir() || id != "" && d.isFolder(id) {
			folders[path] = true
		} else {
			contents[path] = nil // a name without its content
		}
	}
	return folders, contents
}

// lost reports whether the name of a folder that a path stands in did not reach the disk.
func (d *stopping) lost(path string, names map[string]string) bool {
	for path = filepath.Dir(path); len(path) > len(d.root); path = filepath.Dir(path) {
		if _, there := names[path]; !there {
			return true
		}
	}
	return false
}

// isFolder reports whether an identity is that of a folder now.
func (d *stopping) isFolder(id string) (is bool) {
	filepath.WalkDir(d.root, func(path string, e fs.DirEntry, err error) error {
		if err == nil && e.IsDir() && identity(path) == id {
			is = true
		}
		return nil
	})
	return is
}
