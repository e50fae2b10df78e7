package deflate

import (
	"bytes"
	"compress/flate"
	"compress/gzip"
	"io"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"testing"
)

// inflated is what the standard library makes of pieces of a content.
func inflated(t *testing.T, pieces [][]byte) []byte {
	t.Helper()
	data, err := io.ReadAll(flate.NewReader(bytes.NewReader(slices.Concat(pieces...))))
	if err != nil {
		t.Fatal(err)
	}
	return data
}

// pieces compresses a content in pieces of that size.
func pieces(c compressor, data []byte, size int) (list [][]byte) {
	for at := 0; at < len(data) || at == 0; at += size {
		end := min(len(data), at+size)
		from := max(0, at-windowSize)
		list = append(list, bytes.Clone(c.compress(data[from:end], at-from, end == len(data))))
	}
	return list
}

// TestEncoders: whatever is compressed, in one piece or several, the standard library and gzip inflate to what it was; and an encoder
// that was used before gives the same bytes.
func TestEncoders(t *testing.T) {
	chance := rand.New(rand.NewPCG(3, 4))
	runs := make([]byte, 0, 100_000)
	for len(runs) < 100_000 {
		runs = append(runs, bytes.Repeat([]byte{byte(chance.Uint32())}, 1+chance.IntN(700))...)
	}
	far := slices.Concat(noise(5, 40), make([]byte, windowSize-40), noise(5, 40), noise(5, 40)) // matches that are as far away as can be
	contents := samples()
	contents["runs"], contents["far"], contents["zeros"] = runs, far, make([]byte, 70_000)
	contents["rare"] = rare()
	for name, c := range map[string]compressor{"quick": newEncoder(), "smallest": newThorough()} {
		for what, data := range contents {
			if name == "smallest" {
				data = data[:min(len(data), 300_000)]
			}
			for _, size := range []int{blockSize, 50_000, 1000} {
				if size == 1000 {
					data = data[:min(len(data), 5000)]
				}
				list := pieces(c, data, size)
				if got := inflated(t, list); !bytes.Equal(got, data) {
					t.Errorf("%s, %s in pieces of %d: something else", name, what, size)
				}
				if again := pieces(c, data, size); !slices.EqualFunc(again, list, bytes.Equal) {
					t.Errorf("%s, %s in pieces of %d: other bytes the second time", name, what, size)
				}
			}
		}
	}
}

// rare is a text whose symbols are so unequally frequent that codes would be longer than the format allows.
func rare() []byte {
	var b []byte
	for i, n := 0, 1; i < 22; i++ {
		b = append(b, bytes.Repeat([]byte{byte(i)}, n)...)
		n = n*17/10 + 1
	}
	chance := rand.New(rand.NewPCG(1, 1))
	chance.Shuffle(len(b), func(i, j int) { b[i], b[j] = b[j], b[i] })
	return b
}

// TestSizes: on real files the encoders are no larger than gzip -9, and the thorough one is smaller by more than one percent.
func TestSizes(t *testing.T) {
	if _, err := exec.LookPath("gzip"); err != nil {
		t.Skip("skipped: gzip is not installed")
	}
	files, _ := filepath.Glob("../../export/script/testdata/*.js")
	var all []byte
	for _, name := range files {
		data, err := os.ReadFile(name)
		if err != nil {
			t.Fatal(err)
		}
		all = append(all, data...)
	}
	all = all[:min(len(all), 900_000)]
	c := exec.Command("gzip", "-9", "-n")
	c.Stdin = bytes.NewReader(all)
	theirs, err := c.Output()
	if err != nil {
		t.Fatal(err)
	}
	quick, small := len(newEncoder().compress(all, 0, true)), len(newThorough().compress(all, 0, true))
	if quick > len(theirs) || float64(small) > 0.99*float64(len(theirs)) {
		t.Errorf("%d bytes: quick %d, smallest %d, gzip -9 %d", len(all), quick, small, len(theirs))
	}
}

// FuzzEncoders: no content is compressed into anything but itself.
func FuzzEncoders(f *testing.F) {
	for _, data := range samples() {
		f.Add(data[:min(len(data), 3000)], uint16(700))
	}
	quick, small := newEncoder(), newThorough()
	f.Fuzz(func(t *testing.T, data []byte, size uint16) {
		for _, c := range []compressor{quick, small} {
			if got := inflated(t, pieces(c, data, max(64, int(size)))); !bytes.Equal(got, data) {
				t.Fatalf("%d bytes became %d others", len(data), len(got))
			}
		}
	})
}

// TestGzip: the file is one that gzip reads, of any size.
func TestGzip(t *testing.T) {
	for what, data := range samples() {
		data = data[:min(len(data), blockSize+70_000)]
		var b bytes.Buffer
		w := NewGzip(&b)
		for part := data; len(part) > 0; part = part[min(len(part), 77_777):] {
			if _, err := w.Write(part[:min(len(part), 77_777)]); err != nil {
				t.Fatal(err)
			}
		}
		if err := w.Close(); err != nil {
			t.Fatal(err)
		}
		r, err := gzip.NewReader(&b)
		if err != nil {
			t.Fatalf("%s: %v", what, err)
		}
		if got, err := io.ReadAll(r); err != nil || !bytes.Equal(got, data) {
			t.Errorf("%s: something else, %v", what, err)
		}
	}
}
