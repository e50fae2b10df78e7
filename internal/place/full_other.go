//go:build !windows

package place

import "syscall"

var full = []error{syscall.ENOSPC, syscall.EDQUOT}
