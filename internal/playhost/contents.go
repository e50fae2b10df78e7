package playhost

import (
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"hash"
	"io"
	"os"
	"path/filepath"

	"havvel/internal/place"
)

// contents keeps files by the SHA-256 of what is in them, each once.
type contents struct{ folder string }

func (c *contents) path(sum string) string { return filepath.Join(c.folder, sum[:2], sum) }

// put keeps what r gives, up to most bytes, and returns its hash and size. The error is errTooMuch when there is more.
func (c *contents) put(r io.Reader, most int64) (sum string, n int64, err error) {
	temporary := filepath.Join(c.folder, ".arriving-"+newID())
	defer os.Remove(temporary)
	hash := sha256.New()
	err = place.File(temporary, func(f *os.File) error {
		n, err = io.Copy(f, io.TeeReader(io.LimitReader(r, most+1), hash))
		if err == nil && n > most {
			err = errTooMuch
		}
		return err
	})
	if err != nil {
		return "", n, err
	}
	sum = sumOf(hash)
	if info, err := os.Stat(c.path(sum)); err == nil && info.Size() == n {
		return sum, n, nil
	}
	if err := os.MkdirAll(filepath.Dir(c.path(sum)), 0o750); err != nil {
		return "", n, err
	}
	return sum, n, os.Rename(temporary, c.path(sum))
}

func sumOf(h hash.Hash) string { return hex.EncodeToString(h.Sum(nil)) }

var errTooMuch = errors.New("it holds more than is taken")
