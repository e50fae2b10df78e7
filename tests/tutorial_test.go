//go:build unix

package tests

import (
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"havvel/internal/demo/game"
)

var shownBlock = regexp.MustCompile("(?s)```(console|toml)\n(.*?)```")

// TestTutorial does what docs/tutorial.md says, in its order, and holds its answers to what it shows.
func TestTutorial(t *testing.T) {
	t.Parallel()
	defaultPorts.Lock()
	defer defaultPorts.Unlock()
	partner(t, "chromium")
	page, err := os.ReadFile(filepath.Join("..", "docs", "tutorial.md"))
	if err != nil {
		t.Fatal(err)
	}
	in := newTerminal(t, t.TempDir())
	for _, block := range shownBlock.FindAllStringSubmatch(string(page), -1) {
		if block[1] == "toml" {
			settle(t, in.folder, block[2])
			continue
		}
		for _, part := range strings.Split("\n"+block[2], "\n$ ")[1:] {
			line, answer, _ := strings.Cut(part, "\n")
			if to, ok := strings.CutPrefix(line, "cd "); ok {
				in.folder = filepath.Join(in.folder, to)
				continue
			}
			e := in.types(line)
			if e.code != 0 && !strings.Contains(answer, "1 error") {
				t.Fatalf("%s: %d\n%s%s", line, e.code, e.out, e.err)
			}
			shows(t, line, answer, e.out+e.err)
		}
	}
	in.ends()
}

// settle writes what the tutorial says into havvel.toml: a key in place of the one that is there, a table at the end.
func settle(t *testing.T, folder, text string) {
	old := snapshot(t, folder)["/havvel.toml"]
	if key, _, _ := strings.Cut(text, " ="); !strings.HasPrefix(text, "[") {
		line := regexp.MustCompile(`(?m)^` + key + ` = .*$`)
		if !line.MatchString(old) {
			t.Fatalf("havvel.toml has no %s", key)
		}
		writeInto(t, folder, game.Files{"havvel.toml": []byte(line.ReplaceAllLiteralString(old, strings.TrimSpace(text)))})
		return
	}
	writeInto(t, folder, game.Files{"havvel.toml": []byte(old + "\n" + text)})
}

// shows holds an answer to the lines that are shown of it: each is there, in this order; dots stand for anything.
func shows(t *testing.T, command, shown, answer string) {
	t.Helper()
	for line := range strings.Lines(shown) {
		line = strings.TrimSpace(line)
		if line == "" || line == "…" {
			continue
		}
		pattern := strings.ReplaceAll(regexp.QuoteMeta(line), "…", ".*")
		pattern = regexp.MustCompile(` +`).ReplaceAllString(pattern, ` +`)
		at := regexp.MustCompile(pattern).FindStringIndex(answer)
		if at == nil {
			t.Errorf("%s does not answer %q, or not there:\n%s", command, line, answer)
			return
		}
		answer = answer[at[1]:]
	}
}
