//go:build unix

package disktest

import (
	"fmt"
	"io/fs"
	"syscall"
)

func inode(info fs.FileInfo) string { return fmt.Sprint(info.Sys().(*syscall.Stat_t).Ino) }
