package hooks

import (
	"strings"
	"testing"

	"havvel/internal/export/web"
	"havvel/internal/rulebook"
)

// TestPlant: the script comes where the rulebook says, before the game's own, and only once.
func TestPlant(t *testing.T) {
	page := `<html><head><meta charset="utf-8"></head><body><script src="game.js"></script></body></html>`
	for place, before := range map[string]string{"head-start": "<meta", "head-end": "</head>", "body-end": "</body>"} {
		h := rulebook.Hook{Name: "the <SDK>", Script: `/sdk/a.js?x=1&y="2"`, Place: place}
		read := web.ReadPage([]byte(page))
		if Present(read, h) {
			t.Fatal("present before it was planted")
		}
		planted := string(Plant([]byte(page), read, h))
		at := strings.Index(planted, "<script src=\"/sdk/a.js?x=1&amp;y=&#34;2&#34;\"></script>")
		if at < 0 || at > strings.Index(planted, before) || at < strings.Index(planted, before)-150 {
			t.Errorf("%s: %s", place, planted)
		}
		if !Present(web.ReadPage([]byte(planted)), h) {
			t.Errorf("%s: not found after it was planted: %s", place, planted)
		}
	}
}
