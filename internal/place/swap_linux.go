package place

import (
	"os"

	"golang.org/x/sys/unix"
)

// swap exchanges two names in one step. Replacing a file makes some file systems write all of the new one to the disk
// first; exchanging does not.
func swap(a, b string) error {
	return unix.Renameat2(unix.AT_FDCWD, a, unix.AT_FDCWD, b, unix.RENAME_EXCHANGE)
}

// flush waits until what was written to the file system that a folder is on has reached the disk.
func flush(folder string) error {
	f, err := os.Open(folder)
	if err != nil {
		return err
	}
	defer f.Close()
	return unix.Syncfs(int(f.Fd()))
}
