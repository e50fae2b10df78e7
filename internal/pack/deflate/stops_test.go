package deflate

import (
	"bytes"
	"context"
	"io"
	"testing"

	"github.com/klauspost/compress/flate"

	"havvel/internal/disk"
	"havvel/internal/disk/disktest"
)

// TestStops: wherever the disk stops while records are kept, the next run gets right streams out of what is left.
func TestStops(t *testing.T) {
	list := map[string][]byte{"lamps": bytes.Repeat([]byte("every lantern on the lane, "), 2000), "moths": noise(4, 2*leastKept)}
	list["moths"] = append(list["moths"], list["lamps"]...)
	streams := func(s *Store) ([]*Stream, error) {
		var contents []Content
		for _, name := range []string{"lamps", "moths"} {
			contents = append(contents, content(name, list[name]))
		}
		return s.Streams(context.Background(), contents, Quick, func(int64) {})
	}
	work := func(system disk.FS, folder string) error {
		s, err := on(system, folder)
		if err != nil {
			return err
		}
		defer s.Close()
		_, err = streams(s)
		return err
	}
	check := func(t *testing.T, folder string, _ bool) {
		made, err := streams(open(t, folder))
		if err != nil {
			t.Fatal(err)
		}
		for _, stream := range made {
			plain, err := io.ReadAll(flate.NewReader(bytes.NewReader(written(t, stream))))
			if err != nil || !bytes.Equal(plain, list[stream.Name]) {
				t.Errorf("%s unpacks to %d bytes of %d: %v", stream.Name, len(plain), len(list[stream.Name]), err)
			}
		}
	}
	disktest.Stops(t, func(string) {}, work, check)
}
