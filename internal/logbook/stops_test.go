package logbook

import (
	"testing"

	"havvel/internal/disk"
	"havvel/internal/disk/disktest"
)

// TestStops: wherever the disk stops, the logbook has all lines that were added before; and one whose adding had ended.
func TestStops(t *testing.T) {
	for name, before := range map[string]int{"new": 0, "with lines": 2} {
		t.Run(name, func(t *testing.T) {
			disktest.Stops(t, func(folder string) {
				for range before {
					if err := Open(folder).Add(Line{ID: "early", Version: "0.4.0"}); err != nil {
						t.Fatal(err)
					}
				}
			}, func(system disk.FS, folder string) error {
				return On(system, folder).Add(Line{ID: "late", Version: "0.4.1"})
			}, func(t *testing.T, folder string, done bool) {
				lines, _, err := Open(folder).Lines()
				late := len(lines) > before && lines[before].ID == "late"
				if err != nil || len(lines) < before || done && !late {
					t.Errorf("%d lines (%v), and the adding had ended: %v", len(lines), err, done)
				}
				if err := Open(folder).Add(Line{ID: "next", Version: "0.4.2"}); err != nil {
					t.Error(err)
				}
				if again, _, _ := Open(folder).Lines(); len(again) != len(lines)+1 {
					t.Errorf("%d lines after %d and one more", len(again), len(lines))
				}
			})
		})
	}
}
