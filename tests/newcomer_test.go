package tests

import (
	"net/http"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"havvel/internal/demo/game"
)

// TestNewcomer: from a folder with an export to a public page, by what each command says comes next, in at most eight commands and two edits;
// then a second portal, with one more command.
func TestNewcomer(t *testing.T) {
	t.Parallel()
	for _, shape := range []string{"wasm", "script", "single-page"} {
		t.Run(shape, func(t *testing.T) {
			p, project, env := at(t, "quillmarsh", nil)
			address := regexp.MustCompile(`http://[^"]+`).FindString(snapshot(t, project)["/havvel.toml"])
			if !strings.HasPrefix(address, p.Address()) {
				t.Fatalf("the stand-in is at %s, the project names %s", p.Address(), address)
			}
			pair := strings.TrimPrefix(env[0], "QUILLMARSH_KEY=")
			folder, keys := t.TempDir(), filepath.Join(t.TempDir(), "keys")
			for name, data := range snapshot(t, filepath.Join(project, "export", shape)) {
				writeInto(t, folder, game.Files{"dist/" + strings.TrimPrefix(name, "/"): []byte(data)})
			}
			commands, edits := 1, 0 // the stand-in's own
			hv := func(in string, args ...string) ending {
				t.Helper()
				commands++
				return runTold(t, folder, in, []string{"HAVVEL_KEYS=" + keys, "HAVVEL_PROOF=off", "QUILLMARSH_KEY="}, args...)
			}
			hv("", "start", "--to", "quillmarsh", "--address", address).must(t, 0, "goes to: quillmarsh", "next: havvel check")
			hv("", "check").must(t, 0)
			hv(pair+"\n", "keys", "set", "quillmarsh").must(t, 0, "is stored")
			hv("", "send").must(t, 0, "state: draft", "next: havvel publish")
			said := hv("", "publish").must(t, 0, "is public").out
			link := regexp.MustCompile(`http://\S+`).FindString(said)
			if answer, err := http.Get(link); err != nil || answer.StatusCode != 200 {
				t.Fatalf("%s: %v", link, err)
			} else {
				answer.Body.Close()
			}
			if commands > 8 || edits > 2 {
				t.Errorf("%d commands and %d edits", commands, edits)
			}
			hv("", "start", "--to", "brackwater").must(t, 0, "[to.brackwater]", "next: havvel check --to brackwater")
			hv("", "check", "--to", "brackwater")
		})
	}
}
