package fault

import "syscall"

// fullCodes are ERROR_HANDLE_DISK_FULL and ERROR_DISK_FULL (winerror.h).
var fullCodes = []error{syscall.Errno(39), syscall.Errno(112)}
