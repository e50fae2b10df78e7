package pack

import (
	"context"
	"path/filepath"
	"strings"
	"testing"

	"havvel/internal/export/link"
	"havvel/internal/progress"
)

// TestDigests: what is changed and named by its hash gets its new one, also where that changes a file that is named by its own; what was
// wrong before stays so.
func TestDigests(t *testing.T) {
	is := func(kind, text string) string {
		d, err := link.DigestOf(kind, strings.NewReader(text))
		if err != nil {
			t.Fatal(err)
		}
		return string(d)
	}
	late := `fetch("/art/lane.bin")`
	game := `const hashes={"late":"` + is("sha512", late) + `"};import("./late.js")`
	files := map[string]string{
		"index.html": `<!doctype html><html><head><script type=importmap>{"imports":{},"integrity":{"./late.js":"` + is(
			"sha256",
			late,
		) + `"}}</script></head><body><script type=module src="/game.js" integrity="` + is(
			"sha384",
			game,
		) + `"></script><script src=same.js integrity=` + is(
			"sha256",
			"1",
		) + `></script><script src=bad.js integrity=` + is(
			"sha256",
			"2",
		) + `></script></body></html>`,
		"game.js":      game,
		"late.js":      late,
		"same.js":      "1",
		"bad.js":       "fetch('/art/lane.bin')",
		"art/lane.bin": "lane",
	}
	b, _ := build(t, files)
	p, err := cache(t, t.TempDir()).Plan(context.Background(), b, For{Rules: bare, AcceptErrors: true})
	if err != nil {
		t.Fatal(err)
	}
	archive, err := p.Write(context.Background(), filepath.Join(t.TempDir(), "a.zip"), progress.None)
	if err != nil {
		t.Fatal(err)
	}
	got := unpack(t, archive.Path)
	if got["late.js"] == late || got["game.js"] == game || got["bad.js"] == files["bad.js"] {
		t.Fatalf("nothing was changed: %q", got)
	}
	for file, want := range map[string][]string{
		"game.js":    {is("sha512", got["late.js"])},
		"index.html": {is("sha384", got["game.js"]), is("sha256", got["late.js"]), is("sha256", "1"), is("sha256", "2")},
	} {
		for _, d := range want {
			if !strings.Contains(got[file], d) {
				t.Errorf("%s does not name %s:\n%s", file, d, got[file])
			}
		}
	}
}
