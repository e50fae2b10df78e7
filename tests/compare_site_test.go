package tests

import (
	"os"
	"path/filepath"
	"testing"
)

// TestCompareFetched: what a site keeps of a version is compared with, on a machine that never had it.
func TestCompareFetched(t *testing.T) {
	at := t.TempDir()
	p := siteProject(t, &machine{address: at}, "", "")
	run(t, p, "send").must(t, 0)
	raise(t, p, "0.4.0", "0.4.1")
	run(t, p, "send").must(t, 0)
	for _, lost := range []string{"packed", ".havvel", "havvel-log.jsonl"} {
		if err := os.RemoveAll(filepath.Join(p, lost)); err != nil {
			t.Fatal(err)
		}
	}
	run(t, p, "compare", "0.4.0", "0.4.1").must(t, 0, "night.json")
	run(t, p, "compare", "0.4.0").must(t, 0, "night.json")
	run(t, p, "compare", "0.3.9").must(t, 2, "nor a version that was sent")
	files, _ := filepath.Glob(filepath.Join(at, "versions", "0.4.0-*", "index.html"))
	if len(files) != 1 {
		t.Fatal(files)
	}
	if err := os.WriteFile(files[0], []byte("<p>our own"), 0o644); err != nil {
		t.Fatal(err)
	}
	run(t, p, "compare", "0.4.0").must(t, 1, "index.html", "has other content")
}
