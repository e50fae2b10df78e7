//go:build unix

package tests

import (
	"encoding/json"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"havvel/internal/demo"
	"havvel/internal/demo/game"
)

var (
	spans   = regexp.MustCompile("`([^`]+)`")
	keyWord = regexp.MustCompile(`[a-z][a-z0-9_]*`)
)

// documented are the keys that docs/formats/json.md names for a command, with those of the commands that its section refers to.
func documented(page, command string) map[string]bool {
	keys := map[string]bool{}
	if command != "Every document" {
		keys = documented(page, "Every document")
	}
	for section := range strings.SplitSeq(page, "\n## ") {
		title, text, _ := strings.Cut(section, "\n")
		if !strings.Contains(", "+title+",", ", "+command+",") {
			continue
		}
		for _, m := range spans.FindAllStringSubmatch(text, -1) {
			for _, k := range keyWord.FindAllString(m[1], -1) {
				keys[k] = true
			}
		}
		for _, m := range regexp.MustCompile("as for `([a-z]+)`").FindAllStringSubmatch(text, -1) {
			for k := range documented(page, m[1]) {
				keys[k] = true
			}
		}
	}
	if command == "logbook" { // "as above"
		for k := range documented(page, "send") {
			keys[k] = true
		}
	}
	return keys
}

// keysOf lists all keys of a document, at any depth.
func keysOf(v any, into map[string]bool) {
	switch v := v.(type) {
	case map[string]any:
		for k, inner := range v {
			into[k] = true
			keysOf(inner, into)
		}
	case []any:
		for _, inner := range v {
			keysOf(inner, into)
		}
	}
}

// TestJSONKeys: every key that --json prints is documented, and what is printed is one document.
func TestJSONKeys(t *testing.T) {
	t.Parallel()
	page, err := os.ReadFile(filepath.Join("..", "docs", "formats", "json.md"))
	if err != nil {
		t.Fatal(err)
	}
	partner(t, "chromium")
	hv, project := shed(t)
	for name, data := range small() {
		writeInto(t, project, game.Files{"other/" + name: data})
	}
	web := httptest.NewServer(http.FileServer(http.Dir(filepath.Join(filepath.Dir(project), "site"))))
	defer web.Close()
	edit(t, project, "[to.shed]", "[to.site]\naddress = \"../site\"\npublic = \""+web.URL+"\"\n\n[to.shed]")
	for _, line := range []string{
		"look --json", "look other --json", "check --json", "check export/flawed --json", "pack --json --slim", "pack --plan --json",
		"hooks --json", "compare other export/web --json --to brackwater",
		"listing --json", "pictures --json", "send --json", "where --wait --json", "publish --to site --to brackwater --json",
		"where --live --to site --json", "where --all --json", "where --server nginx --to site --json",
		"back --off --to site --json", "logbook --json", "keys list --json", "host token list --json --data " + hostData(t, hv),
		"round open --json", "round list --json", "round report --json", "trial --to brackwater --json",
	} {
		words := strings.Fields(line)
		e := runWith(t, project, []string{"BRACKWATER_KEY=" + demo.PracticeKey}, words...)
		if e.code > 1 {
			t.Fatalf("%s: %d %s", line, e.code, e.err)
		}
		doc := map[string]any{}
		d := json.NewDecoder(strings.NewReader(e.out))
		if err := d.Decode(&doc); err != nil || d.More() {
			t.Fatalf("%s: not one JSON document: %v\n%s", line, err, e.out)
		}
		command := words[0]
		if command == "host" || command == "keys" {
			command = strings.Join(words[:strings.Count(line[:strings.Index(line, " --")], " ")+1], " ")
		}
		known, found := documented(string(page), command), map[string]bool{}
		keysOf(doc, found)
		for k := range found {
			if !known[k] {
				t.Errorf("havvel %s prints %q, of which docs/formats/json.md says nothing", line, k)
			}
		}
	}
}

// hostData is a folder of a host with one token.
func hostData(t *testing.T, hv func(args ...string) ending) string {
	folder := filepath.Join(t.TempDir(), "data")
	hv("host", "token", "make", "moth", "--data", folder).must(t, 0)
	return folder
}
