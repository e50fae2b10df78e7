//go:build !windows

package atomicfile

import (
	"errors"
	"syscall"
)

// alive reports whether there is a process of that number.
func alive(pid int) bool { return !errors.Is(syscall.Kill(pid, 0), syscall.ESRCH) }
