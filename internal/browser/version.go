package browser

import (
	"context"
	"fmt"
	"os"
	"os/exec"
	"runtime"
	"strings"
	"time"
)

// Version tells one version of a browser from another, without opening a window: what the program says of itself, or where it says
// nothing, when its file was made.
func Version(ctx context.Context, program string) string {
	if runtime.GOOS != "windows" { // there, programs with windows say nothing
		ctx, cancel := context.WithTimeout(ctx, 5*time.Second)
		defer cancel()
		if out, err := exec.CommandContext(ctx, program, "--version").Output(); err == nil && len(out) > 0 {
			return program + " " + strings.TrimSpace(string(out))
		}
	}
	if info, err := os.Stat(program); err == nil {
		return fmt.Sprintf("%s %d %d", program, info.Size(), info.ModTime().Unix())
	}
	return program
}
