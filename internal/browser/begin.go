package browser

import (
	"os/exec"
	"runtime"
)

// begin starts a program that doesn't outlive this one where the system sees to that. Until ended is closed, which the caller does after
// having waited for the program, a thread stays for it alone: Linux ends what a thread started together with that thread.
func begin(c *exec.Cmd, ended <-chan struct{}) error {
	endsWithUs(c)
	failed := make(chan error)
	go func() {
		runtime.LockOSThread()
		defer runtime.UnlockOSThread()
		err := c.Start()
		failed <- err
		if err == nil {
			<-ended
		}
	}()
	return <-failed
}
