package mp4

import (
	"bytes"
	"errors"
	"os"
	"path/filepath"
	"testing"
	"time"
)

// TestRead reads a film that a browser recorded, in fragments, and one that a library wrote, turned, with its index at the end.
func TestRead(t *testing.T) {
	for name, want := range map[string]Film{
		"fragments.mp4":  {320, 180, 1500 * time.Millisecond},
		"index-last.mp4": {180, 320, 2 * time.Second},
	} {
		data, err := os.ReadFile(filepath.Join("testdata", name))
		if err != nil {
			t.Fatal(err)
		}
		got, err := Read(bytes.NewReader(data))
		if err != nil || got.Width != want.Width || got.Height != want.Height || (got.Length-want.Length).Abs() > 200*time.Millisecond || !Is(data) {
			t.Errorf("%s: %+v %v, not %+v", name, got, err, want)
		}
	}
	for _, name := range []string{"fragments.mp4", "index-last.mp4"} {
		data, err := os.ReadFile(filepath.Join("testdata", name))
		if err != nil {
			t.Fatal(err)
		}
		for _, n := range []int{0, 6, 12, 40, 4000, len(data) - 10} {
			if f, err := Read(bytes.NewReader(data[:n])); !errors.Is(err, ErrNoFilm) {
				t.Errorf("%s cut off after %d bytes: %+v %v", name, n, f, err)
			}
		}
	}
}

func FuzzRead(f *testing.F) {
	for _, name := range []string{"fragments.mp4", "index-last.mp4"} {
		data, err := os.ReadFile(filepath.Join("testdata", name))
		if err != nil {
			f.Fatal(err)
		}
		f.Add(data)
	}
	f.Fuzz(func(t *testing.T, data []byte) {
		film, err := Read(bytes.NewReader(data))
		if (err == nil) != (film.Width > 0 && film.Height > 0) || film.Length < 0 {
			t.Errorf("%+v %v", film, err)
		}
	})
}
