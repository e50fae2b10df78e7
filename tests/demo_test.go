package tests

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// TestDemo walks the full example as a newcomer does, twice in the same folder.
func TestDemo(t *testing.T) {
	t.Parallel()
	folder := t.TempDir()
	for range 2 {
		out := run(t, folder, "demo").must(t, 0,
			"1 error: Brackwater would not show this build", "link-missing", "link-case", "encoding-unserved",
			"state: verifying", "version 0.4.0 is public", "version 0.4.1 is public", "/play/tinderwick-lane").out
		for _, shape := range []string{"single-page", "wasm", "script"} {
			run(t, filepath.Join(folder, "tinderwick-demo"), "look", "export/"+shape).must(t, 0, "shape        "+shape)
		}
		links := map[string]bool{}
		for line := range strings.SplitSeq(out, "\n") {
			if strings.Contains(line, "is public on Brackwater") {
				links[line[strings.LastIndex(line, " ")+1:]] = true
			}
		}
		if len(links) != 1 {
			t.Errorf("two versions are under %d links: %v", len(links), links)
		}
	}
}

// TestDemoKeepsOthersFiles proves that the demo takes no folder that is not its own, and loses no change.
func TestDemoKeepsOthersFiles(t *testing.T) {
	t.Parallel()
	folder := t.TempDir()
	theirs := filepath.Join(folder, "mine", "notes.txt")
	writeInto(t, folder, map[string][]byte{"mine/notes.txt": []byte("keep me")})
	run(t, folder, "demo", "--dir", "mine").must(t, 2, "notes.txt", "--dir")
	if data, err := os.ReadFile(theirs); err != nil || string(data) != "keep me" {
		t.Fatalf("the file is gone: %v", err)
	}
	run(t, folder, "demo", "--dir", "own").must(t, 0)
	changed := filepath.Join(folder, "own", "export", "web", "style.css")
	if err := os.WriteFile(changed, []byte("/* my try */"), 0o644); err != nil {
		t.Fatal(err)
	}
	run(t, folder, "demo", "--dir", "own").must(t, 2, "style.css (new or changed)")
	if data, err := os.ReadFile(changed); err != nil || string(data) != "/* my try */" {
		t.Fatalf("the change is gone: %v", err)
	}
}

func TestDemoDryRun(t *testing.T) {
	folder := t.TempDir()
	run(t, folder, "demo", "--dry-run").must(t, 0, "$ havvel send", "$ havvel publish")
	if entries, err := os.ReadDir(folder); err != nil || len(entries) > 0 {
		t.Errorf("a dry run wrote %v (%v)", entries, err)
	}
}
