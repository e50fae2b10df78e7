package place

import (
	"os"
	"syscall"
)

// full are ERROR_HANDLE_DISK_FULL and ERROR_DISK_FULL (winerror.h).
var full = []error{syscall.Errno(39), syscall.Errno(112)}

// alive reports whether there is a process of that number.
func alive(pid int) bool {
	p, err := os.FindProcess(pid)
	if err != nil {
		return false
	}
	p.Release() // nothing can be done about an error
	return true
}
