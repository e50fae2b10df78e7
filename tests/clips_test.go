package tests

import (
	"bytes"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"havvel/internal/demo/game"
)

// TestClips: a portal takes clips of few seconds, in several formats. Each is read for how long it lasts, and drawn on the sheet by a browser;
// one that a browser can't draw is told, and tried once.
func TestClips(t *testing.T) {
	t.Parallel()
	partner(t, "chromium")
	read := func(path string) []byte {
		data, err := os.ReadFile(filepath.Join("../internal", path))
		if err != nil {
			t.Fatal(err)
		}
		return data
	}
	whole := read("mp4/testdata/fragments.mp4")
	folder := write(t, game.Files{
		"whole.mp4": whole, "cut.mp4": whole[:1500], "odd.mp4": bytes.ReplaceAll(whole, []byte("avc1"), []byte("odd1")), "last.mp4": read("mp4/testdata/index-last.mp4"), "film.webm": read("pictures/testdata/recorded.webm"),
		"half.webm":      read("pictures/testdata/recorded.webm")[:9000],
		"web/index.html": []byte("<!doctype html><title>Lane</title>"),
		"x.toml": []byte(`format = "havvel-rulebook/2"
name = "a portal"
address = "https://api.brackwater.example"

[archive]
hand_over = "zip"

[[picture]]
name = "clips"
role = "clip"
count = [0, 6]
least = [100, 100]
formats = ["mp4", "webm"]
seconds = 1
`),
		"havvel.toml": []byte(`[game]
title = "Tinderwick Lane"
short = "tinderwick-lane"
version = "1"
export = "web"

[to.x]
rulebook = "x.toml"
`),
	})
	var toml strings.Builder
	for _, name := range []string{"whole.mp4", "cut.mp4", "odd.mp4", "last.mp4", "film.webm", "half.webm"} {
		toml.WriteString("\n[[picture]]\nfile = \"" + name + "\"\nroles = [\"clip\"]\nabout = \"The lane\"\n")
	}
	edit(t, folder, "rulebook = \"x.toml\"\n", "rulebook = \"x.toml\"\n"+toml.String())
	long := []string{"whole.mp4 lasts 1.4 s; a portal takes a clip of 1 s", "last.mp4 lasts 2.0 s", "film.webm lasts 1.4 s"}
	first := run(t, folder, "pictures")
	first.must(t, 1, append(long, "cut.mp4: it is broken", "half.webm: it is broken", "the browser shows nothing of odd.mp4")...)
	stills, _ := filepath.Glob(filepath.Join(folder, ".havvel", "pictures", "x", ".clips-*.png"))
	drawn := 0
	for _, s := range stills {
		if at, err := os.Stat(s); err == nil && at.Size() > 200 {
			drawn++
		}
	}
	if drawn != 3 {
		t.Errorf("%d of 3 films are drawn: %v", drawn, stills)
	}
	// What one browser couldn't draw another one tries.
	path, by := marker(t, folder)
	if err := os.WriteFile(path, []byte("not drawn by /usr/bin/another"), 0o644); err != nil {
		t.Fatal(err)
	}
	run(t, folder, "pictures").must(t, 1, "the browser shows nothing of odd.mp4")
	if _, now := marker(t, folder); now != by {
		t.Errorf("%q, and once another browser could try: %q", by, now)
	}
	again := runWith(t, folder, []string{"HAVVEL_BROWSER=/nowhere"}, "pictures")
	if again.out != first.out {
		t.Errorf("the second time it says something else:\n%s\n%s", again.out, again.err)
	}
}

// marker is the file that says which browser couldn't draw a film, and its text.
func marker(t *testing.T, folder string) (path, text string) {
	stills, _ := filepath.Glob(filepath.Join(folder, ".havvel", "pictures", "x", ".clips-*.png"))
	for _, s := range stills {
		if data, err := os.ReadFile(s); err == nil && strings.HasPrefix(string(data), "not drawn by ") {
			return s, string(data)
		}
	}
	t.Fatal("no film is marked as not drawn")
	return "", ""
}
