package atomicfile

import (
	"os"
	"path/filepath"
	"testing"

	"havvel/internal/disk"
	"havvel/internal/disk/disktest"
)

// TestStops: wherever the disk stops, a file holds what it held before, or all of what was written; after a success, the latter.
func TestStops(t *testing.T) {
	const before, after = "before", "after, and longer than it was"
	disktest.Stops(t, func(folder string) {
		if err := os.WriteFile(filepath.Join(folder, "a.txt"), []byte(before), 0o644); err != nil {
			t.Fatal(err)
		}
	}, func(system disk.FS, folder string) error {
		return Writer{system}.Bytes(filepath.Join(folder, "a.txt"), 0o644, []byte(after))
	}, func(t *testing.T, folder string, done bool) {
		data, err := os.ReadFile(filepath.Join(folder, "a.txt"))
		if got := string(data); err != nil || got != after && (got != before || done) {
			t.Errorf("it holds %q (%v), and the writing had ended: %v", got, err, done)
		}
	})
}

// unexchanged is a file system that can't exchange two names, and fails to rename what is new, once.
type unexchanged struct {
	disk.FS
	fails bool
}

func (u *unexchanged) Exchange(string, string) error { return os.ErrInvalid }

func (u *unexchanged) Rename(from, to string) error {
	if u.fails && filepath.Base(to) == "folder" {
		u.fails = false
		return os.ErrPermission
	}
	return u.FS.Rename(from, to)
}

// TestFolderStops: wherever the disk stops, there is the earlier folder or the new one under its name, or the earlier one beside it; and
// one that can't be put into place leaves the earlier one there.
func TestFolderStops(t *testing.T) {
	prepare := func(folder string) {
		if err := os.MkdirAll(filepath.Join(folder, "folder"), 0o755); err != nil {
			t.Fatal(err)
		}
		os.WriteFile(filepath.Join(folder, "folder", "index.html"), []byte("before"), 0o644)
	}
	write := func(folder string) error {
		return os.WriteFile(filepath.Join(folder, "index.html"), []byte("after"), 0o644)
	}
	check := func(t *testing.T, folder string, done bool) {
		data, err := os.ReadFile(filepath.Join(folder, "folder", "index.html"))
		if got := string(data); err != nil || got != "after" && (got != "before" || done) {
			t.Errorf("it holds %q (%v), and the writing had ended: %v", got, err, done)
		}
	}
	disktest.Stops(t, prepare, func(system disk.FS, folder string) error {
		return Writer{system}.Folder(filepath.Join(folder, "folder"), write)
	}, func(t *testing.T, folder string, done bool) {
		if !done || !t.Failed() {
			check(t, folder, false)
		}
	})
	folder := t.TempDir()
	prepare(folder)
	if err := (Writer{&unexchanged{disk.System, true}}).Folder(filepath.Join(folder, "folder"), write); err == nil {
		t.Error("it could not be put into place, and no error came")
	}
	check(t, folder, false)
	if left, _ := filepath.Glob(filepath.Join(folder, ".*")); len(left) > 0 {
		t.Errorf("left behind: %v", left)
	}
}
