//go:build unix

package browser

import (
	"os"
	"os/exec"
	"strconv"
	"syscall"
)

// leash ends a running program when this one ends in any way, also when it is killed. The caller lets go once the program has ended.
// A shell waits for that at the end of a pipe that the system closes with this program. It has its own process group, so that Ctrl-C
// in a terminal doesn't reach it. Where there is no shell, there is no leash.
func leash(p *os.Process) (letGo func()) {
	read, write, err := os.Pipe()
	if err != nil {
		return func() {}
	}
	defer read.Close()
	watch := exec.Command("/bin/sh", "-c", `read -r _; kill -9 "$1"`, "sh", strconv.Itoa(p.Pid))
	watch.Stdin = read
	watch.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	if watch.Start() != nil {
		write.Close()
		return func() {}
	}
	return func() {
		watch.Process.Kill()
		watch.Wait()
		write.Close()
	}
}
