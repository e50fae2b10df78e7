package place

import "golang.org/x/sys/unix"

// swap exchanges two names in one step. Replacing a file makes some file systems write all of the new one to the disk
// first; exchanging does not.
func swap(a, b string) error {
	return unix.Renameat2(unix.AT_FDCWD, a, unix.AT_FDCWD, b, unix.RENAME_EXCHANGE)
}
