package tests

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
)

// TestUnreadable: a file that can't be read is named, and nothing is written. Root reads everything, so the program is run as
// somebody else.
func TestUnreadable(t *testing.T) {
	if os.Geteuid() != 0 {
		t.Skip("skipped: only root can run a program as somebody else")
	}
	_, project := portal(t, nil)
	secret := filepath.Join(project, "export", "web", "runtime.js")
	if err := os.Chmod(secret, 0o000); err != nil {
		t.Fatal(err)
	}
	for at := project; at != "/" && at != os.TempDir(); at = filepath.Dir(at) {
		os.Chmod(at, 0o777)
	}
	os.Chmod(filepath.Dir(program), 0o755)
	c := exec.Command(program, "pack")
	c.Dir = project
	c.SysProcAttr = &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: 65534, Gid: 65534}}
	out, err := c.CombinedOutput()
	if err == nil || !strings.Contains(string(out), "runtime.js in it can't be opened: ") ||
		!strings.Contains(string(out), "permission denied") {
		t.Errorf("%v: %s", err, out)
	}
}
