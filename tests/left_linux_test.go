package tests

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
)

// TestNothingLeft: a trial that is killed leaves no browser behind, nor a screen.
func TestNothingLeft(t *testing.T) {
	t.Parallel()
	for tool, name := range map[string]string{"chromium": "chromium", "firefox-esr": "firefox"} {
		own := map[string]string{"chromium": "--user-data-dir", "firefox": "--profile"}[name]
		t.Run(name, func(t *testing.T) {
			partner(t, tool)
			at := t.TempDir()
			c := exec.Command(program, "trial", "--browser", name, "--quick", "--watch", "60s", "--start", "60s")
			c.Args = append(c.Args, "../internal/trial/testdata/games/spinner-for-ever")
			c.Env = append(os.Environ(), "TMPDIR="+at, "DISPLAY=")
			if err := c.Start(); err != nil {
				t.Fatal(err)
			}
			eventually(t, "no browser began", func() (any, bool) {
				list := runningFor(t, at)
				return list, strings.Contains(strings.Join(list, " "), own)
			})
			c.Process.Kill()
			c.Wait()
			eventually(t, "programs are left", func() (any, bool) { list := runningFor(t, at); return list, len(list) == 0 })
		})
	}
}

// runningFor are the programs that have this folder for temporary files.
func runningFor(t *testing.T, folder string) (list []string) {
	t.Helper()
	found, err := filepath.Glob("/proc/[0-9]*/environ")
	if err != nil {
		t.Fatal(err)
	}
	for _, path := range found {
		environ, err := os.ReadFile(path)
		if err == nil && strings.Contains(string(environ), "TMPDIR="+folder+"\x00") {
			line, _ := os.ReadFile(filepath.Join(filepath.Dir(path), "cmdline"))
			list = append(list, strings.ReplaceAll(string(line), "\x00", " "))
		}
	}
	return list
}
