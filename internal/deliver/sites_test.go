package deliver

import (
	"testing"

	"havvel/internal/project"
)

// TestDrivers: each protocol that havvel.toml may name has a driver, and each driver a protocol.
func TestDrivers(t *testing.T) {
	known := map[string]bool{}
	for _, p := range project.Protocols() {
		known[p.Scheme] = true
		if drivers[p.Scheme] == nil {
			t.Errorf("%s:// has no driver", p.Scheme)
		}
	}
	for scheme := range drivers {
		if !known[scheme] {
			t.Errorf("project.Protocols lacks %s://", scheme)
		}
	}
}
