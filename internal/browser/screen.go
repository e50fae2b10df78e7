package browser

import (
	"bufio"
	"context"
	"os"
	"os/exec"
	"runtime"
	"strings"
	"time"
)

// ownScreen starts a screen that nobody sees, on systems with X that have none: without one, Firefox has no WebGL. It returns the screen's
// name and what ends it; the name is "" where there is nothing to do, or no such screen.
func ownScreen(ctx context.Context) (name string, end func()) {
	end = func() {}
	if runtime.GOOS == "windows" || runtime.GOOS == "darwin" || os.Getenv("DISPLAY") != "" || os.Getenv("WAYLAND_DISPLAY") != "" {
		return "", end
	}
	path, err := exec.LookPath("Xvfb")
	if err != nil {
		return "", end
	}
	numbers, told, err := os.Pipe()
	if err != nil {
		return "", end
	}
	defer numbers.Close()
	screen := exec.Command(path, "-displayfd", "3", "-screen", "0", "1920x1080x24", "-nolisten", "tcp")
	screen.ExtraFiles = []*os.File{told}
	err = screen.Start()
	told.Close()
	if err != nil {
		return "", end
	}
	letGo := leash(screen.Process)
	late := time.AfterFunc(answerLimit, func() { screen.Process.Kill() })
	defer late.Stop()
	stop := context.AfterFunc(ctx, func() { screen.Process.Kill() })
	defer stop()
	line, err := bufio.NewReader(numbers).ReadString('\n')
	end = func() {
		screen.Process.Kill()
		screen.Wait()
		letGo()
	}
	if err != nil {
		end()
		return "", func() {}
	}
	return ":" + strings.TrimSpace(line), end
}
