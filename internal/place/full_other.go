//go:build !windows

package place

import (
	"errors"
	"syscall"
)

var full = []error{syscall.ENOSPC, syscall.EDQUOT}

// alive reports whether there is a process of that number.
func alive(pid int) bool { return !errors.Is(syscall.Kill(pid, 0), syscall.ESRCH) }
