package folder

import (
	"context"
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"havvel/internal/deliver/site"
	"havvel/internal/disk"
	"havvel/internal/disk/disktest"
)

type text struct{ *strings.Reader }

func (text) Close() error { return nil }

func file(name, content string) site.File {
	return site.File{
		Name:  name,
		Bytes: int64(len(content)),
		Open:  func() (io.ReadSeekCloser, error) { return text{strings.NewReader(content)}, nil },
	}
}

// TestStops: wherever the disk stops, what the site's index names is there whole: a version's file, or the index before it.
func TestStops(t *testing.T) {
	const before, after = "version 1", "version 2, in game/2.txt"
	prepare := func(folder string) {
		if err := os.WriteFile(filepath.Join(folder, "index.txt"), []byte(before), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	work := func(system disk.FS, folder string) error {
		s, err := on(system, folder)
		if err != nil {
			return err
		}
		if err := s.Put(context.Background(), file("game/2.txt", "lanterns"), func(int64) {}); err != nil {
			return err
		}
		return s.Swap(context.Background(), file("index.txt", after))
	}
	check := func(t *testing.T, folder string, done bool) {
		index, err := os.ReadFile(filepath.Join(folder, "index.txt"))
		if got := string(index); err != nil || got != after && (got != before || done) {
			t.Fatalf("the index holds %q (%v), and the switch had ended: %v", got, err, done)
		}
		if data, err := os.ReadFile(filepath.Join(folder, "game", "2.txt")); string(index) == after && string(data) != "lanterns" {
			t.Errorf("the index names a file that holds %q (%v)", data, err)
		} else if len(data) > 0 && string(data) != "lanterns" {
			t.Errorf("the file holds %q", data)
		}
	}
	disktest.Stops(t, prepare, work, check)
	disktest.StopsFileByFile(t, prepare, work, check)
}
