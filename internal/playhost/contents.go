package playhost

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"hash"
	"io"
	"os"

	"havvel/internal/disk"
	"havvel/internal/playhost/files"
)

// contents keeps files by the SHA-256 of what is in them, each once.
type contents struct{ files.Store }

func contentName(sum string) string { return "files/" + sum[:2] + "/" + sum }

// put keeps what r gives, up to most bytes, and returns its hash and size. The error is errTooMuch when there is more.
func (c *contents) put(ctx context.Context, r io.Reader, most int64) (sum string, n int64, err error) {
	hash := sha256.New()
	err = spool(c.Store, func(f disk.File) error {
		n, err = io.Copy(f, io.TeeReader(io.LimitReader(r, most+1), hash))
		if err == nil && n > most {
			err = errTooMuch
		}
		if err != nil {
			return err
		}
		sum = sumOf(hash)
		if there, err := c.Size(ctx, contentName(sum)); err == nil && there == n {
			return nil
		}
		return c.Put(ctx, contentName(sum), f)
	})
	return sum, n, err
}

// open opens a content.
func (c *contents) open(ctx context.Context, sum string) (io.ReadSeekCloser, error) {
	return c.Open(ctx, contentName(sum))
}

// read reads a small content.
func (c *contents) read(ctx context.Context, sum string) ([]byte, error) {
	f, err := c.open(ctx, sum)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	return io.ReadAll(f)
}

// spool gives do a file for what is on its way, and takes it away.
func spool(s files.Store, do func(disk.File) error) error {
	f, err := s.Scratch()
	if err != nil {
		return err
	}
	defer os.Remove(f.Name())
	return errors.Join(do(f), f.Close())
}

func sumOf(h hash.Hash) string { return hex.EncodeToString(h.Sum(nil)) }

var errTooMuch = errors.New("it holds more than is taken")
