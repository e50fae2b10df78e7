package tests

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"havvel/internal/demo/game"
)

// TestOnePage: a game that finds its files in every way that there is runs as well out of one page, in both browsers and in a frame with an
// origin of its own. Each way lights a tile, so one that fails shows in the picture, too.
func TestOnePage(t *testing.T) {
	rules := "format = \"havvel-rulebook/2\"\nname = \"Osierfold\"\naddress = \"http://127.0.0.1:7431\"\n[archive]\nhand_over = \"one-page\"\n"
	for _, c := range []struct {
		name, browser, more string
	}{
		{"chromium", "chromium", ""},
		{"an origin of its own", "chromium", "[frame]\nsandbox = [\"allow-scripts\"]\n"},
		{"firefox", "firefox", ""},
	} {
		t.Run(c.name, func(t *testing.T) {
			partner(t, strings.Replace(c.browser, "firefox", "firefox-esr", 1))
			t.Parallel()
			folder := t.TempDir()
			if err := os.CopyFS(filepath.Join(folder, "export"), os.DirFS("testdata/everywhere")); err != nil {
				t.Fatal(err)
			}
			project := "[game]\ntitle = \"Tinderwick Lane\"\nshort = \"lane\"\nversion = \"1.0.0\"\nexport = \"export\"\n[to.osierfold]\nrulebook = \"portal.toml\"\n"
			writeInto(t, folder, game.Files{"portal.toml": []byte(rules + c.more), "havvel.toml": []byte(project)})
			last := run(t, folder, "pack", "--prove", "--browser", c.browser)
			for try := 0; try < 2 && strings.Contains(last.out, "not proven"); try++ { // a busy machine can't tell
				last = run(t, folder, "pack", "--prove", "--browser", c.browser)
			}
			last.must(t, 0, "\n  proven: it runs as well as your export")
		})
	}
}
