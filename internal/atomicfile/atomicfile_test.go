package atomicfile

import (
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"testing"

	"havvel/internal/disk"
)

// TestFailure: a write that fails leaves the earlier file, and nothing beside it.
func TestFailure(t *testing.T) {
	path := filepath.Join(t.TempDir(), "a", "file.txt")
	if err := Bytes(path, []byte("first")); err != nil {
		t.Fatal(err)
	}
	full := errors.New("the disk is full")
	err := File(path, func(f disk.File) error {
		f.WriteString("half of the sec")
		return full
	})
	if !errors.Is(err, full) {
		t.Errorf("%v", err)
	}
	data, err := os.ReadFile(path)
	entries, _ := os.ReadDir(filepath.Dir(path))
	if string(data) != "first" || err != nil || len(entries) != 1 {
		t.Errorf("%q %v, %v", data, err, entries)
	}
	if err := Bytes(filepath.Join(path, "below-a-file"), nil); err == nil {
		t.Error("wrote below a file")
	}
}

// TestKept: what was damaged anywhere, or cut off, is not taken for what was kept.
func TestKept(t *testing.T) {
	path := filepath.Join(t.TempDir(), "lane")
	if err := Keep(path, []byte("every lantern on the lane")); err != nil {
		t.Fatal(err)
	}
	good, err := os.ReadFile(path)
	if err != nil {
		t.Fatal(err)
	}
	if data, ok := Kept(path); !ok || string(data) != "every lantern on the lane" {
		t.Fatalf("%q %v", data, ok)
	}
	for i := range good {
		changed := append([]byte{}, good...)
		changed[i] ^= 1
		for what, bad := range map[string][]byte{"changed": changed, "cut": good[:i]} {
			if err := os.WriteFile(path, bad, 0o644); err != nil {
				t.Fatal(err)
			}
			if data, ok := Kept(path); ok {
				t.Errorf("%s at %d: taken for whole: %q", what, i, data)
			}
		}
	}
}

// TestAgain: a file that can be made again is put in place whole, or not at all, over an earlier one and where there was none.
func TestAgain(t *testing.T) {
	path := filepath.Join(t.TempDir(), "a", "lane.zip")
	for _, text := range []string{"first", "second"} {
		if err := Again(path, func(f disk.File) error { _, err := f.WriteString(text); return err }); err != nil {
			t.Fatal(err)
		}
		data, err := os.ReadFile(path)
		if err != nil || string(data) != text {
			t.Errorf("%q %v", data, err)
		}
		if info, err := os.Stat(path); err != nil || info.Mode().Perm() != 0o644 {
			t.Errorf("%v %v", info, err)
		}
	}
	broken := errors.New("broken")
	if err := Again(path, func(f disk.File) error { f.WriteString("half"); return broken }); !errors.Is(err, broken) {
		t.Error(err)
	}
	entries, _ := os.ReadDir(filepath.Dir(path))
	if data, _ := os.ReadFile(path); string(data) != "second" || len(entries) != 1 {
		t.Errorf("%q, and %d files", data, len(entries))
	}
}

// TestFolder: a folder takes the place of an earlier one whole, or not at all.
func TestFolder(t *testing.T) {
	path := filepath.Join(t.TempDir(), "packed", "lane")
	put := func(name string) func(string) error {
		return func(folder string) error { return os.WriteFile(filepath.Join(folder, name), nil, 0o644) }
	}
	names := func(folder string) (list []string) {
		entries, _ := os.ReadDir(folder)
		for _, e := range entries {
			list = append(list, e.Name())
		}
		return list
	}
	for _, name := range []string{"a", "b"} {
		if err := Folder(path, put(name)); err != nil {
			t.Fatal(err)
		}
		if got := names(path); len(got) != 1 || got[0] != name {
			t.Errorf("holds %q", got)
		}
	}
	broken := errors.New("broken")
	err := Folder(path, func(folder string) error { return errors.Join(put("c")(folder), broken) })
	if got := names(path); !errors.Is(err, broken) || len(got) != 1 || got[0] != "b" || len(names(filepath.Dir(path))) != 1 {
		t.Errorf("%v: holds %q beside %q", err, got, names(filepath.Dir(path)))
	}
}

// TestSweep: what a process that is no more left beside a name is taken away by the next that writes it; what another one is making is not.
func TestSweep(t *testing.T) {
	dir := t.TempDir()
	path := filepath.Join(dir, "lane[1].zip")
	ended := exec.Command("go", "version")
	if err := ended.Run(); err != nil {
		t.Fatal(err)
	}
	dead := filepath.Join(dir, fmt.Sprintf(".lane[1].zip-%d-123", ended.Process.Pid))
	living := filepath.Join(dir, fmt.Sprintf(".lane[1].zip-%d-123", os.Getppid()))
	other := filepath.Join(dir, fmt.Sprintf(".other.zip-%d-123", ended.Process.Pid))
	for _, name := range []string{dead, living, other} {
		if err := os.Mkdir(name, 0o755); err != nil {
			t.Fatal(err)
		}
	}
	if err := Again(path, func(f disk.File) error { return nil }); err != nil {
		t.Fatal(err)
	}
	for name, want := range map[string]bool{dead: false, living: true, other: true, path: true} {
		if _, err := os.Stat(name); (err == nil) != want {
			t.Errorf("%s is there: %v", name, err == nil)
		}
	}
}
