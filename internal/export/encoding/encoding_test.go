package encoding

import (
	"bytes"
	"io"
	"os"
	"path/filepath"
	"testing"
)

// TestDetect reads files that the formats' own tools wrote.
func TestDetect(t *testing.T) {
	plain, err := os.ReadFile("testdata/plain")
	if err != nil {
		t.Fatal(err)
	}
	for name, want := range map[string]struct {
		format   string
		members  int
		trailing bool
		whole    bool // decodes to the plain text, as often as there are members
	}{
		"plain": {"", 0, false, true}, "plain.br": {"", 0, false, true}, "plain.gz": {"", 0, false, true}, "nothing.br": {"", 0, false, false},
		"brotli.gz": {Brotli, 1, false, true}, "gzip.br": {Gzip, 1, false, true}, "two.gz": {Gzip, 2, false, true},
		"header.gz":   {Gzip, 1, false, true},
		"trailing.gz": {Gzip, 1, true, true}, "trailing.br": {Brotli, 1, true, true}, "cut.gz": {Gzip, 0, false, false},
		"cut.br": {Brotli, 0, false, false},
		"a.zst":  {Zstd, 0, false, true}, "a.zlib": {Zlib, 1, false, true}, "raw.bin": {Raw, 1, false, true},
		"window.br": {Brotli, 0, false, false},
		"empty.br":  {Brotli, 1, false, false}, "hidden.level": {Brotli, 1, false, true}, "hidden.level2": {Gzip, 1, false, true},
	} {
		data, err := os.ReadFile(filepath.Join("testdata", name))
		if err != nil {
			t.Fatal(err)
		}
		format, err := Detect(
			name,
			data[:min(len(data), 4096)],
			false,
			func() (io.ReadCloser, error) { return io.NopCloser(bytes.NewReader(data)), nil },
		)
		if format != want.format || err != nil {
			t.Errorf("%s is in %q (%v), want %q", name, format, err, want.format)
			continue
		}
		r := NewReader(bytes.NewReader(data), format)
		got, err := io.ReadAll(r)
		if whole := err == nil && bytes.Equal(got, bytes.Repeat(plain, max(1, want.members))); whole != want.whole || r.Members != want.members ||
			r.Trailing != want.trailing {
			t.Errorf("%s: whole %v (%v), %d members, trailing %v; want %+v", name, whole, err, r.Members, r.Trailing, want)
		}
		r.Close()
	}
}

// FuzzReader: no bytes stop a reader from ending, and what it reads does not depend on how much is asked for at a time.
func FuzzReader(f *testing.F) {
	files, _ := filepath.Glob("testdata/*")
	for _, name := range files {
		if data, err := os.ReadFile(name); err == nil {
			f.Add(data)
		}
	}
	f.Fuzz(func(t *testing.T, data []byte) {
		for _, format := range []string{Gzip, Brotli, Zstd, Zlib, Raw} {
			r := NewReader(bytes.NewReader(data), format)
			all, err := io.ReadAll(io.LimitReader(r, 1<<20))
			r.Close()
			small := NewReader(bytes.NewReader(data), format)
			var b bytes.Buffer
			_, again := io.CopyBuffer(struct{ io.Writer }{&b}, struct{ io.Reader }{io.LimitReader(small, 1<<20)}, make([]byte, 7))
			small.Close()
			if (err == nil) != (again == nil) || err == nil && !bytes.Equal(all, b.Bytes()) {
				t.Fatalf("%s: %d bytes (%v), then %d (%v)", format, len(all), err, b.Len(), again)
			}
		}
		Detect("lamp.br", data, false, func() (io.ReadCloser, error) { return io.NopCloser(bytes.NewReader(data)), nil })
	})
}
