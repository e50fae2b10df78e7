package atomicfile

import (
	"os"
)

// alive reports whether there is a process of that number.
func alive(pid int) bool {
	p, err := os.FindProcess(pid)
	if err != nil {
		return false
	}
	p.Release() // nothing can be done about an error
	return true
}
