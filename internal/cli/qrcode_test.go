package cli

import (
	"bytes"
	"strings"
	"testing"

	"havvel/internal/cli/term"
)

// TestCode: a link is drawn for phones, but for one that leads nowhere from there.
func TestCode(t *testing.T) {
	for link, want := range map[string]bool{
		"https://brackwater.example/play/tinderwick-lane": true, "http://192.168.0.4:7417/": true,
		"http://127.0.0.1:7411/draft/x": false, "http://localhost:7411/": false, "http://[::1]:7411/": false,
	} {
		var out bytes.Buffer
		(&console{screen: term.New(&out, &out)}).code(link)
		if strings.Contains(out.String(), "█") != want {
			t.Errorf("%s: %q", link, out.String())
		}
	}
}
