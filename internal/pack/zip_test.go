package pack

import (
	"archive/zip"
	"errors"
	"hash/crc32"
	"io"
	"os"
	"path/filepath"
	"runtime"
	"strings"
	"testing"

	"havvel/internal/pack/deflate"
)

// TestLargeZip writes a zip with an entry of more than 4 GiB, and one behind it, and has it read by the standard library, in
// bounded memory.
func TestLargeZip(t *testing.T) {
	folder := t.TempDir()
	const size = 4<<30 + 4321
	zeros := make([]byte, 1<<20)
	var sum uint32
	for left := int64(size); left > 0; left -= int64(len(zeros)) {
		sum = crc32.Update(sum, crc32.IEEETable, zeros[:min(int64(len(zeros)), left)])
	}
	stored := func(name, path string, bytes int64, sum uint32) *deflate.Stream {
		return &deflate.Stream{
			Content: deflate.Content{Name: name, Bytes: bytes, CRC32: sum, Open: func() (io.ReadCloser, error) { return os.Open(path) }},
			Packed:  bytes,
		}
	}
	small := filepath.Join(folder, "small")
	if err := os.WriteFile(small, []byte("lantern"), 0o644); err != nil {
		t.Fatal(err)
	}
	items := []*Item{{Name: "lane.pack"}, {Name: "夜.txt"}}
	streams := []*deflate.Stream{stored("lane.pack", "", size, sum), stored("夜.txt", small, 7, crc32.ChecksumIEEE([]byte("lantern")))}
	f, err := os.Create(filepath.Join(folder, "a.zip"))
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	z := &zipper{f: f}
	if err := z.header(items[0].Name, streams[0]); err != nil {
		t.Fatal(err)
	}
	z.at += size // a hole takes no room on the disk
	if _, err := f.Seek(z.at, io.SeekStart); err != nil {
		t.Fatal(err)
	}
	if err := errors.Join(z.add(items[1].Name, streams[1]), z.close()); err != nil {
		t.Fatal(err)
	}
	var before, after runtime.MemStats
	runtime.ReadMemStats(&before)
	if err := readBack(f, items, streams, &summer{Hash: crc32.NewIEEE(), from: -1, chain: make([][32]byte, 2)}).finish(z.at); err != nil {
		t.Fatal(err)
	}
	runtime.ReadMemStats(&after)
	if used := after.TotalAlloc - before.TotalAlloc; used > 8<<20 {
		t.Errorf("reading back took %d bytes", used)
	}
	r, err := zip.NewReader(f, z.at)
	if err != nil || r.File[0].UncompressedSize64 != size || r.File[1].Name != "夜.txt" {
		t.Fatalf("%v: %+v", err, r)
	}
	if data, err := unpackOne(r.File[1]); err != nil || data != "lantern" {
		t.Errorf("%q, %v", data, err)
	}
	if _, err := f.WriteAt([]byte{1}, 3<<30); err != nil {
		t.Fatal(err)
	}
	if err := readBack(f, items, streams, &summer{Hash: crc32.NewIEEE(), from: -1, chain: make([][32]byte, 2)}).finish(z.at); err == nil ||
		!strings.Contains(err.Error(), "lane.pack") {
		t.Errorf("a byte that changed on the disk: %v", err)
	}
}

func unpackOne(f *zip.File) (string, error) {
	r, err := f.Open()
	if err != nil {
		return "", err
	}
	defer r.Close()
	data, err := io.ReadAll(r)
	return string(data), err
}
