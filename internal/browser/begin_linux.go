package browser

import (
	"os/exec"
	"syscall"
)

func endsWithUs(c *exec.Cmd) { c.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGKILL} }
