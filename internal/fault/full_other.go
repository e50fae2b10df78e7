//go:build !windows

package fault

import "syscall"

var fullCodes = []error{syscall.ENOSPC, syscall.EDQUOT}
