//go:build !unix

package disktest

import "io/fs"

// inode is no identity here: disks are not stopped in tests on such a system.
func inode(info fs.FileInfo) string { return info.Name() }
