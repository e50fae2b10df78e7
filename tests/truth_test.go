//go:build unix

package tests

import (
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"testing"

	"havvel/internal/demo/game"
)

// TestTruth: what the host holds decides. Two developers with a logbook each, one that is lost, and lost files on the host: each sees what
// is public, goes back to what the other sent, and doesn't replace the other's version unasked.
func TestTruth(t *testing.T) {
	t.Parallel()
	root := t.TempDir()
	web := httptest.NewServer(http.FileServer(http.Dir(root)))
	defer web.Close()
	ann, ben := siteProject(t, &machine{address: root}, web.URL, ""), siteProject(t, &machine{address: root}, web.URL, "")
	send := func(p, from, to string) {
		if from != to {
			raise(t, p, from, to)
		}
		run(t, p, "send", "--no-proof").must(t, 0)
	}
	send(ann, "0.4.0", "0.4.0")
	run(t, ann, "publish").must(t, 0)
	run(t, ben, "where").must(t, 0, "0.4.0    public", web.URL)
	run(t, ben, "logbook").must(t, 0, "0.4.0", "public")
	run(t, ben, "back").must(t, 1, "nothing was public before it")
	send(ben, "0.4.0", "0.4.1")
	run(t, ben, "publish").must(t, 0, "0.4.1 is public")
	run(t, ann, "where", "--json").must(t, 0, `"version": "0.4.1"`, `"state": "public"`)
	run(t, ann, "publish").must(t, 0, "0.4.1 is public")
	run(t, ann, "back").must(t, 0, "0.4.0 is public on shed, instead of 0.4.1")
	run(t, ben, "where").must(t, 0, "0.4.1    replaced", "0.4.0    public")
	send(ann, "0.4.0", "0.4.2")
	send(ben, "0.4.1", "0.4.3")
	run(t, ben, "publish").must(t, 0, "0.4.3 is public")

	// Ann loses her logbook, the host two of its files.
	for _, file := range []string{filepath.Join(ann, ".havvel"), filepath.Join(root, "havvel-versions.json"), filepath.Join(root, "havvel.json")} {
		if err := os.RemoveAll(file); err != nil {
			t.Fatal(err)
		}
	}
	run(t, ann, "where", "--all").must(t, 0, "0.4.0", "0.4.1", "0.4.3    public")
	run(t, ann, "back", "0.4.1").must(t, 0, "0.4.1 is public on shed, instead of 0.4.3")
	run(t, ann, "back", "--off").must(t, 0, "0.4.1 is withdrawn")
	run(t, ben, "where").must(t, 0, "0.4.3    withdrawn")
	run(t, ben, "publish").must(t, 0, "0.4.3 is public")

	// A version that is gone on the host is none to go back to.
	if folders, _ := filepath.Glob(filepath.Join(root, "versions", "0.4.1-*")); len(folders) != 1 || os.RemoveAll(folders[0]) != nil {
		t.Fatalf("%v", folders)
	}
	run(t, ann, "back", "0.4.1").must(t, 1, "not there any more")
	run(t, ann, "where").must(t, 0, "0.4.3    public")
	writeInto(t, root, game.Files{"havvel.json": []byte("of somebody else")})
	run(t, ann, "where").must(t, 1, "havvel did not write")
}
