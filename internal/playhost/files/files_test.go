package files

import (
	"errors"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"
)

// keep puts a text under a name.
func keep(t *testing.T, s Store, name, text string) error {
	t.Helper()
	f, err := s.Scratch()
	if err != nil {
		t.Fatal(err)
	}
	defer os.Remove(f.Name())
	defer f.Close()
	if _, err := f.WriteString(text); err != nil {
		t.Fatal(err)
	}
	return s.Put(t.Context(), name, f)
}

// TestFolder: what is put is there whole, from any place, and what is removed is gone with the folder that held nothing else.
func TestFolder(t *testing.T) {
	at := filepath.Join(t.TempDir(), "shed")
	s, err := Open(t.Context(), at, "")
	if err != nil {
		t.Fatal(err)
	}
	const name, text = "clips/moth/00001", "seven lamps"
	if _, err := s.Open(t.Context(), name); !errors.Is(err, fs.ErrNotExist) {
		t.Errorf("what is not there: %v", err)
	}
	if _, err := s.Size(t.Context(), name); !errors.Is(err, fs.ErrNotExist) {
		t.Errorf("the size of what is not there: %v", err)
	}
	for range 2 { // the second time in the place of the first
		if err := keep(t, s, name, text); err != nil {
			t.Fatal(err)
		}
	}
	f, err := s.Open(t.Context(), name)
	if err != nil {
		t.Fatal(err)
	}
	f.Seek(6, io.SeekStart)
	got, err := io.ReadAll(f)
	f.Close()
	if n, sized := s.Size(t.Context(), name); err != nil || string(got) != "lamps" || sized != nil || n != int64(len(text)) {
		t.Errorf("%q, %d bytes, %v", got, n, err)
	}
	if left, err := os.ReadDir(filepath.Join(at, "scratch")); err != nil || len(left) > 0 {
		t.Errorf("on the way is still %v %v", left, err)
	}
	if err := s.Remove(t.Context(), name, "clips/moth/00002"); err != nil {
		t.Errorf("removing one that is there and one that is not: %v", err)
	}
	if _, err := os.Stat(filepath.Join(at, "clips", "moth")); !errors.Is(err, fs.ErrNotExist) {
		t.Errorf("an empty folder stays: %v", err)
	}
}

// TestLeftBehind: what a host that was killed left on its way is taken away by the next one, and what another may be at work on stays.
func TestLeftBehind(t *testing.T) {
	at := t.TempDir()
	var made []string
	for _, age := range []time.Duration{0, 23 * time.Hour, 25 * time.Hour} {
		s, err := Open(t.Context(), at, "")
		if err != nil {
			t.Fatal(err)
		}
		f, err := s.Scratch()
		if err != nil {
			t.Fatal(err)
		}
		then := time.Now().Add(-age)
		if err := errors.Join(f.Close(), os.Chtimes(f.Name(), then, then)); err != nil {
			t.Fatal(err)
		}
		made = append(made, f.Name())
	}
	if _, err := Open(t.Context(), at, ""); err != nil {
		t.Fatal(err)
	}
	for i, stays := range []bool{true, true, false} {
		if _, err := os.Stat(made[i]); (err == nil) != stays {
			t.Errorf("%s: %v", made[i], err)
		}
	}
}

// TestAddresses: what is wrong with an address is said, without the key.
func TestAddresses(t *testing.T) {
	for address, says := range map[string]string{
		"ftp://store.example/shed":             "can't be kept at ftp://",
		"s3://store.example":                   "names no bucket",
		"s3://moth:lantern@store.example/shed": "can't be read",
		"s3://store.example/shed":              "wants a key, written ID:SECRET",
	} {
		if _, err := Open(t.Context(), address, "lantern"); err == nil || !strings.Contains(err.Error(), says) ||
			strings.Contains(err.Error(), "lantern") {
			t.Errorf("%s: %v", address, err)
		}
	}
}
