package pack

import (
	"bytes"
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/binary"
	"encoding/hex"
	"errors"
	"fmt"
	"hash"
	"io"
	"os"
	"path/filepath"
	"sync"

	"github.com/andybalholm/brotli"

	"havvel/internal/atomicfile"
	"havvel/internal/disk"
	"havvel/internal/export/encoding"
	"havvel/internal/pack/deflate"
	"havvel/internal/progress"
)

// making keeps contents that were worked out, by what they were worked out from, in a folder that can be deleted at any time. Behind
// each stand its length and hash, and nothing is taken that differs from them. Where the folder can't be written to, contents are kept
// elsewhere for as long as the program runs.
type making struct {
	folder string
	mu     sync.Mutex
	spare  string // a folder of the system's, where that one can't be written to
	failed error  // why
}

// A product is a content that was made.
type product struct {
	path  string
	bytes int64
}

const trailer = 8 + sha256.Size // bytes behind a content: its length and hash

// product returns what is made from a content by a way of making, whose name changes when what it makes does.
// What was made before is not made again, unless it is damaged.
func (m *making) product(from [sha256.Size]byte, way string, make func(io.Writer) error) (product, error) {
	key := sha256.Sum256(append(from[:], way...))
	name := hex.EncodeToString(key[:16])
	if made, ok := readProduct(filepath.Join(m.folder, name)); ok {
		return made, nil
	}
	folder := m.place()
	made, err := write(folder, name, make)
	if err == nil || !atomicfile.Unwritable(err) {
		return made, err
	}
	other, moved := m.elsewhere(folder, err)
	if moved != nil {
		return made, err
	}
	return write(other, name, make)
}

func (m *making) place() string {
	m.mu.Lock()
	defer m.mu.Unlock()
	return cmp.Or(m.spare, m.folder)
}

// elsewhere is the folder that takes the place of one that can't be written to, for as many as find that out at once.
func (m *making) elsewhere(folder string, reason error) (string, error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	if m.spare != "" {
		if folder == m.spare {
			return "", reason
		}
		return m.spare, nil
	}
	var err error
	if m.spare, err = os.MkdirTemp("", "havvel-made-*"); err == nil {
		m.failed = reason
	}
	return m.spare, err
}

// close takes away what is not kept.
func (m *making) close() error {
	if m.spare == "" {
		return nil
	}
	return os.RemoveAll(m.spare)
}

// readProduct looks for a product whose length and hash are what they were.
func readProduct(path string) (product, bool) {
	f, err := os.Open(path)
	if err != nil {
		return product{}, false
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil || info.Size() < trailer {
		return product{}, false
	}
	made := product{path, info.Size() - trailer}
	hash := sha256.New()
	var kept [trailer]byte
	if _, err := io.Copy(hash, io.NewSectionReader(f, 0, made.bytes)); err != nil {
		return product{}, false
	}
	if _, err := f.ReadAt(kept[:], made.bytes); err != nil {
		return product{}, false
	}
	return made, bytes.Equal(kept[:], made.trailer(hash))
}

func (p product) trailer(hash hash.Hash) []byte {
	return hash.Sum(binary.LittleEndian.AppendUint64(nil, uint64(p.bytes)))
}

// write makes a product in a folder. It does not wait for the disk: one that was cut off is found out.
func write(folder, name string, make func(io.Writer) error) (product, error) {
	made := product{path: filepath.Join(folder, name)}
	return made, atomicfile.Again(made.path, func(f disk.File) error {
		hash := sha256.New()
		if err := make(io.MultiWriter(f, hash)); err != nil {
			return err
		}
		var err error
		if made.bytes, err = f.Seek(0, io.SeekCurrent); err != nil {
			return err
		}
		_, err = f.Write(made.trailer(hash))
		return err
	})
}

// open opens the content.
func (p product) open() (io.ReadCloser, error) {
	f, err := os.Open(p.path)
	if err != nil {
		return nil, err
	}
	return struct {
		io.Reader
		io.Closer
	}{io.LimitReader(f, p.bytes), f}, nil
}

// read returns the content.
func (p product) read() ([]byte, error) {
	r, err := p.open()
	if err != nil {
		return nil, err
	}
	defer r.Close()
	return io.ReadAll(r)
}

// use makes an item's bytes those of a product.
func (it *Item) use(p product) { it.bytes, it.open = p.bytes, p.open }

// recode brings an item from one encoding to the one that it shall have.
func (m *making) recode(ctx context.Context, it *Item, was string, report progress.Reporter) error {
	f := it.From
	made, err := m.product(f.SHA256, "recode 3 "+was+" "+it.encoding, func(w io.Writer) error {
		r, err := f.Open()
		if err != nil {
			return err
		}
		defer r.Close()
		plain := encoding.NewReader(progress.Reader(ctx, r, progress.None), was)
		defer plain.Close()
		packed := encoder(w, it.encoding, f.Decoded)
		n, err := io.Copy(packed, progress.Reader(ctx, plain, report))
		if err == nil && n != f.Decoded {
			err = fmt.Errorf("it changed while it was packed")
		}
		return errors.Join(err, packed.Close())
	})
	if err != nil {
		return err
	}
	it.use(made)
	return nil
}

// decoded returns the item's text to be changed, without the encoding that its file has.
func (it *Item) decoded(ctx context.Context, was string) ([]byte, error) {
	data, err := it.read(ctx)
	if err != nil || was == "" {
		return data, err
	}
	r := encoding.NewReader(bytes.NewReader(data), was)
	defer r.Close()
	plain, err := io.ReadAll(io.LimitReader(r, most+1))
	if err == nil && len(plain) > most {
		err = fmt.Errorf("%s has more than 64 MB, so Havvel does not change it", it.Name)
	}
	return plain, err
}

func encoded(data []byte, format string) ([]byte, error) {
	if format == "" {
		return data, nil
	}
	var b bytes.Buffer
	w := encoder(&b, format, int64(len(data)))
	if _, err := w.Write(data); err != nil {
		return nil, err
	}
	err := w.Close()
	return b.Bytes(), err
}

// encoder compresses so many bytes for players, once: as small as can be within a minute for a large file. A gzip stream (RFC 1952) has
// no name and no time in it.
func encoder(w io.Writer, format string, bytes int64) io.WriteCloser {
	switch format {
	case encoding.Gzip:
		return deflate.NewGzip(w)
	case encoding.Brotli:
		quality := brotli.BestCompression
		if bytes > 32<<20 {
			quality = 9
		}
		return brotli.NewWriterOptions(w, brotli.WriterOptions{Quality: quality, LGWin: 24})
	}
	return plainWriter{w}
}

type plainWriter struct{ io.Writer }

func (plainWriter) Close() error { return nil }
