package neterr

import "syscall"

// What Windows calls these conditions (winsock2.h); Go's own names stand for nothing there.
var (
	refused = []error{syscall.Errno(10061)}
	broken  = []error{syscall.Errno(10053), syscall.Errno(10054)}
)
