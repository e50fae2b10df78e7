package cli

import (
	"testing"
	"time"
)

// TestSpan: lengths in days and in hours are read, and written as people would.
func TestSpan(t *testing.T) {
	for text, want := range map[string]struct {
		length time.Duration
		shown  string
	}{
		"7d": {7 * 24 * time.Hour, "7d"}, "48h": {48 * time.Hour, "2d"}, "36h": {36 * time.Hour, "36h"}, "90m": {90 * time.Minute, "1h30m"},
		"30m": {30 * time.Minute, "30m"},
		"10m": {10 * time.Minute, "10m"}, "20h": {20 * time.Hour, "20h"}, "45s": {45 * time.Second, "45s"}, "0d": {0, ""},
	} {
		var s duration
		if err := s.Set(text); err != nil || time.Duration(s) != want.length || s.String() != want.shown {
			t.Errorf("%s: %v, shown as %q: %v", text, time.Duration(s), s.String(), err)
		}
	}
	for _, bad := range []string{"", "soon", "5x", "-1d", "-3h", "1.5d", "999999999d"} {
		s := duration(time.Hour)
		if err := s.Set(bad); err == nil || time.Duration(s) != time.Hour {
			t.Errorf("%q was read as %v", bad, time.Duration(s))
		}
	}
}
