package tests

import (
	"encoding/json"
	"os"
	"path/filepath"
	"testing"

	"havvel/internal/demo"
	"havvel/internal/demo/game"
)

// TestTraces: an error in a script that a bundler made small is told with its place in the sources, by the project's own source map, which
// goes nowhere; and not when the script was built anew since.
func TestTraces(t *testing.T) {
	t.Parallel()
	hv, project := shed(t)
	script := func(name string) []byte {
		data, err := os.ReadFile(filepath.Join("..", "internal", "round", "sourcemap", "testdata", name))
		if err != nil {
			t.Fatal(err)
		}
		return data
	}
	entry := snapshot(t, filepath.Join(project, demo.GoodExport))["/index.html"]
	writeInto(t, project, game.Files{
		demo.GoodExport + "/lane.js": script("lane.js"), demo.GoodExport + "/lane.js.map": script("lane.js.map"),
		demo.GoodExport + "/index.html": []byte(entry + "<script src=lane.js></script>"),
	})
	edit(t, project, "[game]", "[pack]\nleave_out = [\"*.map\"]\n\n[game]")
	hv("send", "--to", "shed", "--only", "build", "--no-proof", "--accept-errors").must(t, 0)
	opened := decode[struct{ ID, Link string }](t, hv("round", "open", "--json").must(t, 0))
	status, body := posting(opened.Link+"/sessions", map[string]any{"device": map[string]any{"width": 800, "height": 600}})
	var begun struct{ Session string }
	if json.Unmarshal(body, &begun); status != 201 {
		t.Fatalf("%d %s", status, body)
	}
	const stack = "TypeError: Cannot read properties of undefined (reading 'lit')\n" +
		"    at o (http://127.0.0.1/p/abcdef/lane.js:1:43)\n    at l (http://127.0.0.1/p/abcdef/lane.js:1:199)"
	status, body = posting(opened.Link+"/sessions/"+begun.Session+"/events", map[string]any{"events": []sentEvent{{1, 10, "error", map[string]any{
		"message": "Cannot read properties of undefined (reading 'lit')", "file": "lane.js", "line": 1, "column": 43, "stack": stack,
	}}}})
	if status >= 300 {
		t.Fatalf("%d %s", status, body)
	}
	source := func() string {
		list := decode[struct{ Errors []struct{ Source string } }](t, hv("round", "report", "--json").must(t, 0)).Errors
		if len(list) != 1 {
			t.Fatalf("%+v", list)
		}
		return list[0].Source
	}
	if got := source(); got != "src/lantern.ts:6" {
		t.Errorf("the error is at %q", got)
	}
	hv("round", "report").must(t, 0, "reading 'lit') at src/lantern.ts:6")
	writeInto(t, project, game.Files{demo.GoodExport + "/lane.js": append([]byte("//\n"), script("lane.js")...)})
	if got := source(); got != "" {
		t.Errorf("of a script that was built anew: %q", got)
	}
}
