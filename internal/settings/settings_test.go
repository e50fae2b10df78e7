package settings

import "testing"

func TestSize(t *testing.T) {
	for text, want := range map[string]Size{"80 MB": 80e6, "1.5GB": 15e8, "12 B": 12, "300": 300, "2 KB": 2000} {
		var s Size
		if err := s.UnmarshalText([]byte(text)); err != nil || s != want {
			t.Errorf("%q: %d %v", text, s, err)
		}
	}
	for _, text := range []string{"", "MB", "-1 MB", "1 TB", "1e30 GB", "NaN"} {
		var s Size
		if s.UnmarshalText([]byte(text)) == nil {
			t.Errorf("%q was taken as %d", text, s)
		}
	}
	for size, want := range map[Size]string{0: "0 B", 999: "999 B", 1000: "1 KB", 12_400_000: "12.4 MB", 508_113: "508 KB", 1_250_000_000: "1.2 GB"} {
		if got := size.String(); got != want {
			t.Errorf("%d is %q, want %q", size, got, want)
		}
	}
}

func TestNearest(t *testing.T) {
	known := []string{"title", "short", "version", "export"}
	for written, want := range map[string]string{"verison": "version", "titel": "title", "Export": "export", "zzzzzz": "", "": ""} {
		if got := Nearest(written, known); got != want {
			t.Errorf("%q: %q, want %q", written, got, want)
		}
	}
}
