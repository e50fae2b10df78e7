package compare

import (
	"bytes"
	"compress/gzip"
	"context"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"havvel/internal/check"
	"havvel/internal/export"
	"havvel/internal/finding"
)

func build(t *testing.T, files map[string]string) *export.Build {
	t.Helper()
	folder := t.TempDir()
	for name, data := range files {
		path := filepath.Join(folder, filepath.FromSlash(name))
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
	return b
}

func good() map[string]string {
	return map[string]string{
		"index.html": "<html><head></head><body><canvas></canvas><script src=game.js></script></body></html>",
		"game.js":    `fetch("lane.pack"); Arcade.ready()`, "lane.pack": "\x00" + strings.Repeat("lane", 100), "art/a.png": "\x89PNG\r\n\x1a\nA",
		"rules.wasm": "\x00asm\x01\x00\x00\x00\x05\x03\x01\x00\x01",
	}
}

// TestBuilds changes a build in one way each, and looks at what is said of it.
func TestBuilds(t *testing.T) {
	for name, c := range map[string]struct {
		change func(map[string]string)
		says   string // of added, removed, changed, moved
		line   string
		more   func(*Result) bool
	}{
		"nothing": {func(map[string]string) {}, "[] [] [] []", "the same files, ",
			func(r *Result) bool { return r.Growth() == 0 && r.From.Fingerprint == r.To.Fingerprint }},
		"a folder around it": {func(f map[string]string) {
			for name, data := range good() {
				delete(f, name)
				f["web/"+name] = data
			}
		}, "[] [] [] []", "the same files, ", func(r *Result) bool { return r.To.Entry == "index.html" }},
		"a file more": {func(f map[string]string) { f["b.bin"] = "\x00more" }, "[{b.bin 0 5}] [] [] []", "1 file added; ",
			func(r *Result) bool { return r.Growth() > 0 }},
		"a file less": {func(f map[string]string) { delete(f, "art/a.png") }, "[] [{art/a.png 9 0}] [] []", "1 file removed; ",
			func(r *Result) bool { return r.Growth() < 0 }},
		"another content": {func(f map[string]string) { f["lane.pack"] = "\x00short" }, "[] [] [{lane.pack 401 6}] []", "1 file changed; ", nil},
		"another place": {func(f map[string]string) { f["b.png"] = f["art/a.png"]; delete(f, "art/a.png") }, "[] [] [] [{art/a.png b.png " +
			"9 false}]", "1 file moved; ", nil},
		"another form": {func(f map[string]string) {
			var b bytes.Buffer
			z := gzip.NewWriter(&b)
			z.Write([]byte(f["lane.pack"]))
			z.Close()
			f["lane.pack.gz"] = b.String()
			delete(f, "lane.pack")
		}, "[] [] [] [{lane.pack lane.pack.gz 33 true}]", "1 file moved; ", nil},
		"a copy is new": {func(f map[string]string) { f["b.png"] = f["art/a.png"] }, "[{b.png 0 9}] [] [] []", "1 file added; ", nil},
		"all of these": {func(f map[string]string) {
			f["b.png"] = f["art/a.png"]
			delete(f, "art/a.png")
			f["lane.pack"] += "x"
			f["c.bin"] = "\x00c"
		}, "[{c.bin 0 2}] [] [{lane.pack 401 402}] [{art/a.png b.png 9 false}]", "1 file changed, 1 added, 1 moved; ", nil},
		"another host, another call": {func(f map[string]string) {
			f["game.js"] = `fetch("lane.pack"); fetch("https://scores.example/top"); Arcade.score()`
		}, "[] [] [{game.js 34 71}] []", "", func(r *Result) bool {
			return fmt.Sprint(r.Hosts, r.Calls) == "{[scores.example] []} {[Arcade.score] [Arcade.ready]}"
		}},
		"more memory": {func(f map[string]string) { f["rules.wasm"] = "\x00asm\x01\x00\x00\x00\x05\x03\x01\x00\x07" },
			"[] [] [{rules.wasm 13 13}] []", "", func(r *Result) bool { return r.Wasm.MemoryBefore == 65536 && r.Wasm.MemoryAfter == 7*65536 }},
		"a folder around all": {func(f map[string]string) {
			for name, content := range maps.Clone(f) {
				delete(f, name)
				f["lane/"+name] = content
			}
		}, "[] [] [] []", "", func(r *Result) bool { return len(r.Findings) == 1 && r.Findings[0].ID == "entry-nested" }},
		"a link is lost": {func(f map[string]string) { delete(f, "lane.pack") }, "[] [{lane.pack 401 0}] [] []", "",
			func(r *Result) bool { return r.Links.MissingBefore == 0 && r.Links.MissingAfter == 1 }},
		"a finding is new": {func(f map[string]string) { f[".DS_Store"] = "x" }, "[] [] [] []", "", func(r *Result) bool {
			return slices.ContainsFunc(r.Findings, func(f Finding) bool { return f.New && f.ID == "leftover-junk" })
		}},
	} {
		t.Run(name, func(t *testing.T) {
			files := good()
			c.change(files)
			r := Builds(
				build(t, good()),
				build(t, files),
				[]string{"Arcade.ready", "Arcade.score"},
				func(b *export.Build) []finding.Finding { return check.Run(check.Subject{Build: b}) },
			)
			if got := fmt.Sprint(r.Added, r.Removed, r.Changed, r.Moved); got != c.says {
				t.Errorf("%s, want %s", got, c.says)
			}
			if !strings.HasPrefix(r.Line(), c.line) {
				t.Errorf("the line is %q, want %q", r.Line(), c.line)
			}
			if c.more != nil && !c.more(r) {
				t.Errorf("%+v", r)
			}
			var before, after int64
			for _, k := range r.Kinds {
				before, after = before+k.Before, after+k.After
			}
			if before != r.From.Bytes || after != r.To.Bytes {
				t.Errorf("the kinds have %d and %d bytes of %d and %d", before, after, r.From.Bytes, r.To.Bytes)
			}
		})
	}
}

// TestBack: what is new one way is gone the other way.
func TestBack(t *testing.T) {
	files := good()
	files[".DS_Store"], files["game.js"] = "x", `fetch("gone.pack")`
	judge := func(b *export.Build) []finding.Finding { return check.Run(check.Subject{Build: b}) }
	there, back := Builds(build(t, good()), build(t, files), nil, judge), Builds(build(t, files), build(t, good()), nil, judge)
	count := func(r *Result, isNew bool) (n int) {
		for _, f := range r.Findings {
			if f.New == isNew {
				n++
			}
		}
		return n
	}
	if count(there, true) != count(back, false) || count(there, false) != count(back, true) || count(there, true) == 0 {
		t.Errorf("%+v\n%+v", there.Findings, back.Findings)
	}
}
