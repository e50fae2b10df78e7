//go:build !windows

package neterr

import "syscall"

var (
	refused = []error{syscall.ECONNREFUSED}
	broken  = []error{syscall.ECONNRESET, syscall.EPIPE}
)
