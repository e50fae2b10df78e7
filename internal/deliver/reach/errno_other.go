//go:build !windows

package reach

import "syscall"

var (
	refused = []error{syscall.ECONNREFUSED}
	broken  = []error{syscall.ECONNRESET, syscall.EPIPE}
)
