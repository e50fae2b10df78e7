package tests

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"havvel/internal/demo/game"
)

// keeping is a project whose pack keeps something of every kind: what it read, what it compressed, what it made, and sums.
func keeping(t *testing.T) string {
	t.Helper()
	folder := t.TempDir()
	files := game.Files{
		"havvel.toml": fmt.Appendf(
			nil,
			"[game]\ntitle = \"Tinderwick Lane\"\nshort = \"lane\"\nversion = \"1.0.0\"\nexport = \"export\"\n[to.plain]\naddress = "+
				"%q\nrulebook = \"brackwater\"\nencode = \"gzip\"\n",
			"http://127.0.0.1:9",
		),
		"export/index.html": []byte(
			"<!doctype html><html lang=en><head><meta charset=utf-8><title>Lane</title></head><body><canvas id=lane></canvas><script " +
				"src=game.js></script></body></html>",
		),
		"export/game.js":      []byte(`fetch("lane.json.br").then(r => r.json()); fetch("lane.bin"); fetch("moth.bin"); navigator.serviceWorker; Brackwater.ready()`),
		"export/lane.json.br": squeezed(t, "br", []byte(`["`+string(prose(90_000))[:20]+`"]`)),
		"export/lane.bin":     prose(3_000_000),
		"export/moth.bin":     static(9_000_000),
	}
	files["havvel.toml"] = []byte(strings.Replace(string(files["havvel.toml"]), "address = \"http://127.0.0.1:9\"\n", "", 1))
	writeInto(t, folder, files)
	return folder
}

func packedBytes(t *testing.T, folder string) []byte {
	t.Helper()
	made, _ := filepath.Glob(filepath.Join(folder, "packed", "*.zip"))
	if len(made) != 1 {
		t.Fatalf("packed: %v", made)
	}
	data, err := os.ReadFile(made[0])
	if err != nil {
		t.Fatal(err)
	}
	return data
}

// TestDamagedCache: whatever byte of what is kept is damaged, cut off or put in its place, the next pack gives the same archive, in one
// run.
func TestDamagedCache(t *testing.T) {
	t.Parallel()
	folder := keeping(t)
	run(t, folder, "pack").must(t, 0, "whole")
	want := packedBytes(t, folder)
	var kept []string
	filepath.WalkDir(filepath.Join(folder, ".havvel"), func(path string, d os.DirEntry, err error) error {
		if err == nil && d.Type().IsRegular() && !strings.HasSuffix(path, ".lock") {
			kept = append(kept, path)
		}
		return err
	})
	if len(kept) < 4 {
		t.Fatalf("kept: %v", kept)
	}
	for _, path := range kept {
		good, err := os.ReadFile(path)
		if err != nil {
			t.Fatal(err)
		}
		places := []int{0, 30, len(good) / 2, len(good) - 1}
		for _, at := range places {
			if at < 0 || at >= len(good) {
				continue
			}
			for what, bad := range map[string][]byte{"changed": append(append(append([]byte{}, good[:at]...), good[at]^0x10), good[at+1:]...),
				"cut": good[:at]} {
				if err := os.WriteFile(path, bad, 0o644); err != nil {
					t.Fatal(err)
				}
				run(t, folder, "pack").must(t, 0, "whole")
				if got := packedBytes(t, folder); string(got) != string(want) {
					t.Errorf("%s %s at %d of %d: another archive", path, what, at, len(good))
				}
				if err := os.WriteFile(path, good, 0o644); err != nil {
					t.Fatal(err)
				}
			}
		}
	}
}

// TestCacheElsewhere: a cache that can't be written to makes packing slower, and that is said once.
func TestCacheElsewhere(t *testing.T) {
	t.Parallel()
	folder := keeping(t)
	run(t, folder, "pack").must(t, 0, "whole")
	want := packedBytes(t, folder)
	for what, spoil := range map[string]func(cache string){
		"a file in its place": func(cache string) { os.WriteFile(cache, nil, 0o644) },
		"files in its folders' place": func(cache string) {
			os.MkdirAll(cache, 0o755)
			os.WriteFile(filepath.Join(cache, "made"), nil, 0o644)
			os.Mkdir(filepath.Join(cache, "blocks"), 0o755)
		},
	} {
		os.RemoveAll(filepath.Join(folder, ".havvel"))
		os.MkdirAll(filepath.Join(folder, ".havvel"), 0o755)
		spoil(filepath.Join(folder, ".havvel", "cache"))
		e := run(t, folder, "pack").must(t, 0, "whole")
		if strings.Count(e.err, "can't keep") != 1 || string(packedBytes(t, folder)) != string(want) {
			t.Errorf("%s: %s", what, e.err)
		}
	}
}

// TestFullCache: a cache on a disk that is full makes packing slower; an archive on one is not written, and the disk is called full.
func TestFullCache(t *testing.T) {
	t.Parallel()
	folder := keeping(t)
	small := filepath.Join(folder, ".havvel")
	if err := os.Mkdir(small, 0o755); err != nil {
		t.Fatal(err)
	}
	if os.Geteuid() != 0 || exec.Command("mount", "-t", "tmpfs", "-o", "size=200k", "tmpfs", small).Run() != nil {
		t.Skip("skipped: a small disk can't be made here")
	}
	defer exec.Command("umount", small).Run()
	if e := run(t, folder, "pack").must(t, 0, "whole"); strings.Count(e.err, "can't keep") != 1 {
		t.Errorf("said nothing of the cache: %s", e.err)
	}
	os.Mkdir(filepath.Join(small, "out"), 0o755)
	if e := run(t, folder, "pack", "--out", ".havvel/out"); e.code != 3 || !strings.Contains(e.err, "the disk is full") ||
		strings.Contains(e.err, "stopped") {
		t.Errorf("ended with %d: %s", e.code, e.err)
	}
	if left, _ := os.ReadDir(filepath.Join(small, "out")); len(left) > 0 {
		t.Errorf("left behind: %v", left)
	}
}
