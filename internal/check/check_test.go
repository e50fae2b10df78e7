package check

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"havvel/internal/export"
	"havvel/internal/rulebook"
)

var arcade = &rulebook.Rulebook{
	Name:    "Arcade",
	Archive: rulebook.Archive{HandOver: "zip", Limit: 100_000, FileLimit: 50_000, Files: 5},
	Serves:  rulebook.Serves{Encodings: []string{"gzip"}},
	Hooks:   []rulebook.Hook{{Name: "SDK", Script: "/sdk.js", Place: "head-start", Required: true, Plant: true}},
}

const page = `<html><head><script src="/sdk.js"></script></head><body><script src="game.js"></script></body></html>`

// good is a build in which nothing is to be found.
func good() map[string]string {
	return map[string]string{"index.html": page, "game.js": "play()", "art/lane.png": "\x89PNG\r\n\x1a\n"}
}

// flawed says, for every check, how to spoil the good build, and what is then found where.
var flawed = map[string]struct {
	spoil func(files map[string]string)
	want  []string // level, file and line
}{
	"entry-none":   {func(f map[string]string) { delete(f, "index.html") }, []string{"error "}},
	"entry-nested": {func(f map[string]string) { move(f, "web/") }, []string{"error web/index.html"}},
	"entry-name":   {func(f map[string]string) { rename(f, "index.html", "lane.html") }, []string{"error lane.html"}},
	"link-missing": {func(f map[string]string) {
		f["index.html"] = strings.Replace(page, "<body>", "<body>\n<script src=no.js></script><img src=no.png>", 1)
		f["old.html"] = "<script src=gone.js></script>"
	}, []string{"error index.html:2", "warning index.html:2", "warning old.html:1"}},
	"link-case": {func(f map[string]string) {
		f["index.html"] = strings.Replace(page, "<body>", "<body><img src=Art/Lane.png><a href=Game.js>", 1)
	}, []string{"error index.html:1", "warning index.html:1"}},
	"link-absolute": {func(f map[string]string) {
		f["index.html"] = strings.Replace(page, "game.js", "/game.js", 1)
	}, []string{"warning index.html:1"}},
	"encoding-unserved": {func(f map[string]string) { f["lane.pack.br"] = "\x0b\x02\x80hello\x03" }, []string{"error lane.pack.br"}},
	"weight-archive":    {func(f map[string]string) { f["a.bin"], f["b.bin"], f["c.bin"] = noise, noise, noise }, []string{"warning "}},
	"weight-file":       {func(f map[string]string) { f["a.bin"] = noise + noise }, []string{"error a.bin"}},
	"weight-count":      {func(f map[string]string) { f["a.js"], f["b.js"], f["c.js"] = "a", "b", "c" }, []string{"error "}},
	"hook-absent":       {func(f map[string]string) { f["index.html"] = strings.Replace(page, "/sdk.js", "game.js", 1) }, []string{"error index.html"}},
	"leftover-junk":     {func(f map[string]string) { f[".DS_Store"], f["__MACOSX/x"], f["a.js~"] = "x", "x", "x" }, []string{"warning .DS_Store", "warning __MACOSX/x", "warning a.js~"}},
}

var noise = strings.Repeat("\x00\x01", 20_000)

func move(f map[string]string, folder string) {
	for name, data := range f {
		delete(f, name)
		f[folder+name] = data
	}
}

func rename(f map[string]string, from, to string) { f[to] = f[from]; delete(f, from) }

func build(t *testing.T, files map[string]string) *export.Build {
	t.Helper()
	folder := t.TempDir()
	for name, data := range files {
		path := filepath.Join(folder, name)
		if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(path, []byte(data), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	b, err := export.Read(context.Background(), folder)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { b.Close() })
	return b
}

func TestGoodBuild(t *testing.T) {
	for _, packed := range []bool{false, true} {
		if f := Run(Subject{Build: build(t, good()), Destination: "arcade", Rules: arcade, Packed: packed, Plants: true}); len(f) > 0 {
			t.Errorf("packed %v: %+v", packed, f)
		}
	}
}

// TestCatalogue spoils the good build in one way for each check.
func TestCatalogue(t *testing.T) {
	for _, c := range Catalogue() {
		t.Run(c.ID, func(t *testing.T) {
			how, ok := flawed[c.ID]
			if !ok {
				t.Fatal("no flawed build for this check")
			}
			files := good()
			how.spoil(files)
			var got []string
			for _, f := range Run(Subject{Build: build(t, files), Destination: "arcade", Rules: arcade, Plants: true}) {
				if f.ID == c.ID {
					got = append(got, place(f))
					if f.Message == "" || f.Fix == "" || f.Destination != "arcade" {
						t.Errorf("says too little: %+v", f)
					}
				}
			}
			if !slices.Equal(got, how.want) {
				t.Errorf("found %q, want %q", got, how.want)
			}
			for _, text := range []string{c.Title, c.Text, c.Before, c.After} {
				if text == "" {
					t.Error("a text is missing")
				}
			}
		})
	}
}

func place(f Finding) string {
	if f.Line == 0 {
		return fmt.Sprintf("%s %s", f.Level, f.File)
	}
	return fmt.Sprintf("%s %s:%d", f.Level, f.File, f.Line)
}

// TestMended: what pack mends is a note when pack is used, and only then.
func TestMended(t *testing.T) {
	for _, id := range []string{"entry-nested", "entry-name", "hook-absent", "leftover-junk"} {
		files := good()
		flawed[id].spoil(files)
		b := build(t, files)
		for _, f := range Run(Subject{Build: b, Destination: "arcade", Rules: arcade, Packed: true, Plants: true}) {
			if f.ID == id && (f.Level != Note || f.MendedBy != "pack") {
				t.Errorf("%s when packed: %+v", id, f)
			}
		}
	}
	files := good()
	move(files, "web/")
	files["readme.md"] = "hello"
	if f := Run(Subject{Build: build(t, files), Destination: "arcade", Rules: arcade, Packed: true, Plants: true}); len(f) != 1 || f[0].ID != "entry-nested" || f[0].Level != Error {
		t.Errorf("a folder that can't be lifted: %+v", f)
	}
}

func TestAccepts(t *testing.T) {
	files := good()
	flawed["link-missing"].spoil(files)
	b := build(t, files)
	findings := Run(Subject{Build: b, Accepts: []Accept{{ID: "link-missing", File: "*.html", Reason: "made at run time"}}})
	if Errors(findings) != 0 || len(findings) == 0 {
		t.Errorf("%+v", findings)
	}
	if n := Errors(Run(Subject{Build: b, Accepts: []Accept{{ID: "link-missing", File: "old.html", Reason: "r"}}})); n != 1 {
		t.Errorf("%d errors", n)
	}
}
