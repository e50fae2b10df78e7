package place

import "syscall"

// full are ERROR_HANDLE_DISK_FULL and ERROR_DISK_FULL (winerror.h).
var full = []error{syscall.Errno(39), syscall.Errno(112)}
