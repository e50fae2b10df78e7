package deflate

import (
	"bytes"
	"context"
	"crypto/sha256"
	"errors"
	"hash/crc32"
	"io"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/klauspost/compress/flate"
)

func content(name string, data []byte) Content {
	return Content{
		Name:   name,
		SHA256: sha256.Sum256(data),
		CRC32:  crc32.ChecksumIEEE(data),
		Bytes:  int64(len(data)),
		Open:   func() (io.ReadCloser, error) { return io.NopCloser(bytes.NewReader(data)), nil },
	}
}

func noise(seed uint64, size int) []byte {
	chance := rand.New(rand.NewPCG(seed, 1))
	data := make([]byte, size)
	for i := range data {
		data[i] = byte(chance.Uint32())
	}
	return data
}

func open(t *testing.T, folder string) *Store {
	t.Helper()
	s, err := Open(folder)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { s.Close() })
	return s
}

// written returns what a stream writes.
func written(t *testing.T, s *Stream) []byte {
	t.Helper()
	f, err := os.Create(filepath.Join(t.TempDir(), "out"))
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	n, err := s.CopyTo(f)
	if err != nil || n != s.Packed {
		t.Fatalf("%s: %d of %d bytes, %v", s.Name, n, s.Packed, err)
	}
	data, err := os.ReadFile(f.Name())
	if err != nil {
		t.Fatal(err)
	}
	return data
}

// samples are contents of all sizes that matter: none, one byte, around the edges of a block, and several blocks.
func samples() map[string][]byte {
	words := bytes.Repeat([]byte("every lantern on the lane, "), 200_000)
	return map[string][]byte{
		"empty": nil, "one": {7}, "small": words[:100], "kept": words[:leastKept], "a block": words[:blockSize],
		"a block and a byte": words[:blockSize+1],
		"several":            words[:4*blockSize+12345], "noise": noise(1, 300_000), "much noise": noise(2, 3*blockSize),
		"mixed": append(noise(3, blockSize), words[:2*blockSize]...),
	}
}

// TestStreams: whatever is compressed unpacks to what it was, the first time, from the store, and in another process's store.
func TestStreams(t *testing.T) {
	folder := t.TempDir()
	var list []Content
	for name, data := range samples() {
		list = append(list, content(name, data))
	}
	var first map[string][]byte
	for round := range 3 {
		s := open(t, folder)
		done := int64(0)
		streams, err := s.Streams(context.Background(), list, Quick, func(n int64) { done += n })
		if err != nil {
			t.Fatal(err)
		}
		now := map[string][]byte{}
		for i, stream := range streams {
			data, packed := samples()[list[i].Name], written(t, stream)
			now[stream.Name] = packed
			plain := packed
			if stream.Deflated {
				if plain, err = io.ReadAll(flate.NewReader(bytes.NewReader(packed))); err != nil {
					t.Fatalf("%s: %v", stream.Name, err)
				}
			}
			if !bytes.Equal(plain, data) || stream.Packed > int64(len(data)) {
				t.Errorf("%s: %d bytes became %d, and %d again", stream.Name, len(data), len(packed), len(plain))
			}
			if v := stream.Verifier(); true {
				v.Write(packed)
				if !v.Same() {
					t.Errorf("%s is taken for damaged", stream.Name)
				}
			}
		}
		if round > 0 {
			for name := range now {
				if !bytes.Equal(first[name], now[name]) {
					t.Errorf("%s: round %d gives other bytes", name, round)
				}
			}
		}
		first = now
		s.Close()
	}
}

// TestVerifier: a byte that is wrong, missing or too many is found, wherever it is.
func TestVerifier(t *testing.T) {
	s := open(t, t.TempDir())
	for name, data := range samples() {
		streams, err := s.Streams(context.Background(), []Content{content(name, data)}, Quick, func(int64) {})
		if err != nil {
			t.Fatal(err)
		}
		packed := written(t, streams[0])
		for _, at := range []int{0, len(packed) / 2, len(packed) - 1} {
			if len(packed) == 0 {
				continue
			}
			wrong := bytes.Clone(packed)
			wrong[at] ^= 4
			for what, bad := range map[string][]byte{"wrong": wrong, "cut": packed[:at], "more": append(bytes.Clone(packed), 1)} {
				v := streams[0].Verifier()
				for part := bad; len(part) > 0; part = part[min(len(part), 1000):] {
					v.Write(part[:min(len(part), 1000)])
				}
				if v.Same() {
					t.Errorf("%s: a stream that is %s at %d is taken for right", name, what, at)
				}
			}
		}
	}
}

// TestChanged: a content that is not what was announced is named, whatever the difference.
func TestChanged(t *testing.T) {
	s := open(t, t.TempDir())
	data := samples()["several"]
	for what, now := range map[string][]byte{"shorter": data[:len(data)-1], "longer": append(bytes.Clone(data), 1),
		"other": append([]byte{1}, data[1:]...), "gone": nil} {
		c := content("lane.pack", data)
		c.Open = func() (io.ReadCloser, error) { return io.NopCloser(bytes.NewReader(now)), nil }
		var changed *Changed
		if _, err := s.Streams(context.Background(), []Content{c}, Quick, func(int64) {}); !errors.As(err, &changed) ||
			changed.Name != "lane.pack" {
			t.Errorf("%s: %v", what, err)
		}
	}
	c := content("lane.pack", data)
	c.Open = func() (io.ReadCloser, error) { return nil, os.ErrPermission }
	if _, err := s.Streams(context.Background(), []Content{c}, Quick, func(int64) {}); !errors.Is(err, os.ErrPermission) ||
		!strings.Contains(err.Error(), "lane.pack") {
		t.Errorf("unreadable: %v", err)
	}
	stopped, stop := context.WithCancel(context.Background())
	stop()
	if _, err := s.Streams(stopped, []Content{content("a", data), content("b", data[1:])}, Quick, func(int64) {}); !errors.Is(
		err,
		context.Canceled,
	) {
		t.Errorf("stopped: %v", err)
	}
}

// TestTwoAtOnce: a second havvel reads what the first keeps, keeps its own apart, and leaves nothing behind.
func TestTwoAtOnce(t *testing.T) {
	folder := t.TempDir()
	a, b := open(t, folder), open(t, folder)
	data := samples()
	for i, s := range []*Store{a, b, a} {
		name := []string{"several", "mixed", "mixed"}[i]
		streams, err := s.Streams(context.Background(), []Content{content(name, data[name])}, Quick, func(int64) {})
		if err != nil {
			t.Fatal(err)
		}
		written(t, streams[0])
	}
	if err := errors.Join(a.Close(), b.Close()); err != nil {
		t.Fatal(err)
	}
	if left, err := filepath.Glob(filepath.Join(folder, ".blocks-*")); err != nil || len(left) > 0 {
		t.Errorf("left behind: %v (%v)", left, err)
	}
	again := open(t, folder)
	if len(again.known) < 8 {
		t.Errorf("%d records were kept", len(again.known))
	}
}

// TestCutOff: of a store that was cut off, as by a crash, what is whole is used, and the rest is made again.
func TestCutOff(t *testing.T) {
	folder := t.TempDir()
	s := open(t, folder)
	c := content("several", samples()["several"])
	if _, err := s.Streams(context.Background(), []Content{c}, Quick, func(int64) {}); err != nil {
		t.Fatal(err)
	}
	whole := len(s.known)
	s.Close()
	path := filepath.Join(folder, "blocks")
	full, err := os.ReadFile(path)
	if err != nil {
		t.Fatal(err)
	}
	for _, cut := range []int{len(full) - 1, len(full) / 2, headerSize - 1, 1, 0} {
		if err := os.WriteFile(path, full[:cut], 0o644); err != nil {
			t.Fatal(err)
		}
		s := open(t, folder)
		if len(s.known) >= whole {
			t.Errorf("cut at %d: %d records of %d", cut, len(s.known), whole)
		}
		streams, err := s.Streams(context.Background(), []Content{c}, Quick, func(int64) {})
		if err != nil {
			t.Fatal(err)
		}
		if plain, err := io.ReadAll(flate.NewReader(bytes.NewReader(written(t, streams[0])))); err != nil ||
			!bytes.Equal(plain, samples()["several"]) {
			t.Errorf("cut at %d: %v", cut, err)
		}
		s.Close()
	}
}

// FuzzStore: whatever the store's file holds, it is opened, and nothing wrong is taken from it.
func FuzzStore(f *testing.F) {
	data := samples()["kept"]
	folder := f.TempDir()
	s, err := Open(folder)
	if err != nil {
		f.Fatal(err)
	}
	if _, err := s.Streams(context.Background(), []Content{content("kept", data)}, Quick, func(int64) {}); err != nil {
		f.Fatal(err)
	}
	s.Close()
	good, err := os.ReadFile(filepath.Join(folder, "blocks"))
	if err != nil {
		f.Fatal(err)
	}
	f.Add(good)
	f.Add(good[:70])
	f.Fuzz(func(t *testing.T, file []byte) {
		folder := t.TempDir()
		if err := os.WriteFile(filepath.Join(folder, "blocks"), file, 0o644); err != nil {
			t.Fatal(err)
		}
		s := open(t, folder)
		streams, err := s.Streams(context.Background(), []Content{content("kept", data)}, Quick, func(int64) {})
		if err != nil {
			t.Fatal(err)
		}
		packed := written(t, streams[0])
		v := streams[0].Verifier()
		v.Write(packed)
		if plain, err := io.ReadAll(flate.NewReader(bytes.NewReader(packed))); v.Same() && (err != nil || !bytes.Equal(plain, data)) &&
			bytes.Equal(file, good) {
			t.Fatalf("a wrong stream is taken for right: %v", err)
		}
	})
}
