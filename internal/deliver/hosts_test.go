package deliver

import (
	"net/url"
	"os"
	"path/filepath"
	"testing"
	"time"

	"havvel/internal/deliver/site"
	"havvel/internal/project"
)

// TestHostsRemembered: what was found out about a host is known to the next command, for a week, whatever the file held before.
func TestHostsRemembered(t *testing.T) {
	now := time.Date(2026, 11, 30, 12, 0, 0, 0, time.UTC)
	c := &Courier{Project: &project.Project{Folder: t.TempDir()}, Now: func() time.Time { return now }}
	u, _ := url.Parse("sftp://moth@shed.example/lane")
	for _, damaged := range []string{"null", "{", "[]", ""} {
		if err := os.MkdirAll(filepath.Dir(c.hostsFile()), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(c.hostsFile(), []byte(damaged), 0o644); err != nil {
			t.Fatal(err)
		}
		a := c.abilities(u)
		a.Note(site.Copies, 0)
		c.remember(u, a)
		if c.abilities(u).Can(site.Copies) {
			t.Errorf("after %q it is not known any more", damaged)
		}
	}
	now = now.Add(believed + time.Hour)
	if !c.abilities(u).Can(site.Copies) {
		t.Error("it is believed for longer than a week")
	}
}
