package pack

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"

	"github.com/andybalholm/brotli"
	"github.com/klauspost/compress/gzip"

	"havvel/internal/export/encoding"
	"havvel/internal/progress"
)

// making keeps contents that were worked out, by what they were worked out from, in a folder that can be deleted at any
// time.
type making struct{ folder string }

// file returns the path of what is made from a content by a way of making, whose name changes when what it makes does.
// What was made before is not made again.
func (m *making) file(from [sha256.Size]byte, way string, make func(io.Writer) error) (path string, bytes int64, err error) {
	key := sha256.Sum256(append(from[:], way...))
	path = filepath.Join(m.folder, hex.EncodeToString(key[:16]))
	if info, err := os.Stat(path); err == nil {
		return path, info.Size(), nil
	}
	if err := os.MkdirAll(m.folder, 0o755); err != nil {
		return "", 0, err
	}
	f, err := os.CreateTemp(m.folder, "new-*")
	if err != nil {
		return "", 0, err
	}
	defer os.Remove(f.Name()) // after it was moved there is nothing to remove
	if err := make(f); err != nil {
		return "", 0, errors.Join(err, f.Close())
	}
	if bytes, err = f.Seek(0, io.SeekCurrent); err != nil {
		return "", 0, errors.Join(err, f.Close())
	}
	// It is found again by its name alone, so it must be whole on the disk first.
	if err := errors.Join(f.Sync(), f.Close()); err != nil {
		return "", 0, err
	}
	return path, bytes, os.Rename(f.Name(), path)
}

// use makes an item's bytes those of a file.
func (it *Item) use(path string, bytes int64) {
	it.bytes, it.open = bytes, func() (io.ReadCloser, error) { return os.Open(path) }
}

// recode brings an item from one encoding to the one that it shall have.
func (m *making) recode(ctx context.Context, it *Item, was string) error {
	f := it.From
	path, bytes, err := m.file(f.SHA256, "recode 1 "+was+" "+it.encoding, func(w io.Writer) error {
		r, err := f.Open()
		if err != nil {
			return err
		}
		defer r.Close()
		plain := encoding.NewReader(&progress.Reader{Ctx: ctx, R: r, To: progress.None}, was)
		defer plain.Close()
		packed, err := encoder(w, it.encoding)
		if err != nil {
			return err
		}
		n, err := io.Copy(packed, plain)
		if err == nil && n != f.Decoded {
			err = fmt.Errorf("it changed while it was packed")
		}
		return errors.Join(err, packed.Close())
	})
	if err != nil {
		return err
	}
	it.use(path, bytes)
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
		err = fmt.Errorf("%s has more than 64 MB, which is too large to be changed", it.Name)
	}
	return plain, err
}

func encoded(data []byte, format string) ([]byte, error) {
	if format == "" {
		return data, nil
	}
	var b bytes.Buffer
	w, err := encoder(&b, format)
	if err != nil {
		return nil, err
	}
	if _, err := w.Write(data); err != nil {
		return nil, err
	}
	err = w.Close()
	return b.Bytes(), err
}

// encoder compresses for players: as small as can be within a few seconds for a large file. A gzip stream (RFC 1952) has
// no name and no time in it.
func encoder(w io.Writer, format string) (io.WriteCloser, error) {
	switch format {
	case encoding.Gzip:
		return gzip.NewWriterLevel(w, gzip.BestCompression)
	case encoding.Brotli:
		return brotli.NewWriterOptions(w, brotli.WriterOptions{Quality: 9, LGWin: 22}), nil
	}
	return plainWriter{w}, nil
}

type plainWriter struct{ io.Writer }

func (plainWriter) Close() error { return nil }
