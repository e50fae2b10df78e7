package files

import (
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"testing"
	"time"

	"havvel/internal/disk"
	"havvel/internal/disk/disktest"
)

// TestStops: wherever the disk stops, a file that was put is there whole, or not at all; and it is there once Put has returned.
func TestStops(t *testing.T) {
	const name, text = "clips/moth/00001", "seven lamps"
	work := func(system disk.FS, at string) error {
		s, err := on(system, at, time.Now)
		if err != nil {
			return err
		}
		f, err := s.Scratch()
		if err != nil {
			return err
		}
		if _, err := f.WriteString(text); err != nil {
			return errors.Join(err, f.Close())
		}
		return errors.Join(s.Put(t.Context(), name, f), f.Close())
	}
	check := func(t *testing.T, at string, done bool) {
		got, err := os.ReadFile(filepath.Join(at, filepath.FromSlash(name)))
		if whole := err == nil && string(got) == text; !whole && (done || !errors.Is(err, fs.ErrNotExist)) {
			t.Errorf("it holds %q (%v), and was put: %v", got, err, done)
		}
	}
	prepare := func(at string) {}
	disktest.Stops(t, prepare, work, check)
	disktest.StopsFileByFile(t, prepare, work, check)
}
