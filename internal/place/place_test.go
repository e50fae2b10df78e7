package place

import (
	"errors"
	"os"
	"path/filepath"
	"testing"
)

// TestFailure: a write that fails leaves the earlier file, and nothing beside it.
func TestFailure(t *testing.T) {
	path := filepath.Join(t.TempDir(), "a", "file.txt")
	if err := Bytes(path, []byte("first")); err != nil {
		t.Fatal(err)
	}
	full := errors.New("the disk is full")
	err := File(path, func(f *os.File) error {
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
