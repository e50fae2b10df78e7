package atomicfile

import (
	"bytes"
	"crypto/sha256"
	"os"

	"havvel/internal/disk"
)

// Keep makes a file that can be made again, with the hash of data behind it, as Again does.
func Keep(path string, data []byte) error {
	sum := sha256.Sum256(data)
	return Again(path, func(f disk.File) error {
		if _, err := f.Write(data); err != nil {
			return err
		}
		_, err := f.Write(sum[:])
		return err
	})
}

// Kept returns what Keep wrote; ok is false where there is no such file, or it is not what it was.
func Kept(path string) (data []byte, ok bool) {
	file, err := os.ReadFile(path)
	if err != nil || len(file) < sha256.Size {
		return nil, false
	}
	data, seal := file[:len(file)-sha256.Size], file[len(file)-sha256.Size:]
	sum := sha256.Sum256(data)
	return data, bytes.Equal(sum[:], seal)
}
