package proof

import (
	"bytes"
	"context"
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"havvel/internal/browser"
	"havvel/internal/export"
	"havvel/internal/pack"
	"havvel/internal/rulebook"
)

// files are an export in memory.
type files map[string][]byte

func lane(t *testing.T) files {
	t.Helper()
	list := files{}
	root := os.DirFS(filepath.Join("testdata", "lane"))
	for _, name := range []string{"index.html", "style.css", "game.js", "lanterns.js", "lamp.png", "levels/one.json", "rules.wasm"} {
		f, err := root.Open(name)
		if err != nil {
			t.Fatal(err)
		}
		if list[name], err = io.ReadAll(f); err != nil {
			t.Fatal(err)
		}
		f.Close()
	}
	return list
}

func (list files) build(t *testing.T) *export.Build {
	t.Helper()
	var parts []export.Part
	for name, data := range list {
		parts = append(parts, export.Part{Path: name, Bytes: int64(len(data)), Open: func() (io.ReadCloser, error) {
			return io.NopCloser(bytes.NewReader(data)), nil
		}})
	}
	b, err := export.Assemble(context.Background(), "lane", "zip", parts)
	if err != nil {
		t.Fatal(err)
	}
	return b
}

// change puts other words into a file.
func (list files) change(t *testing.T, name, old, new string) {
	t.Helper()
	if !bytes.Contains(list[name], []byte(old)) {
		t.Fatalf("%s has no %q", name, old)
	}
	list[name] = bytes.Replace(list[name], []byte(old), []byte(new), 1)
}

// TestSpoiled: steps of packing that spoil a game in ten ways are caught, each with the place that suffers and the step that did it.
func TestSpoiled(t *testing.T) {
	program, err := browser.Find("", "")
	if err != nil {
		if os.Getenv("CI") == "true" {
			t.Fatal(err)
		}
		t.Skipf("skipped: %v", err)
	}
	folder := t.TempDir()
	store := In(folder)
	for _, way := range []struct {
		name, step, file string // that the step changed
		spoil            func(list files)
		finds            string // the finding's id, its file, and words of it
		line             int
		quick            bool // enough for every day
	}{
		{"nothing", "names", "game.js", func(list files) {}, "", 0, true},
		{"a file is lost", "leave-out", "levels/one.json", func(list files) { delete(list, "levels/one.json") },
			"proof-request game.js levels/one.json", 6, true},
		{"a name's letters", "names", "lanterns.js", func(list files) {
			list["Lanterns.js"] = list["lanterns.js"]
			delete(list, "lanterns.js")
		}, "proof-request game.js lanterns.js", 1, false},
		{"a link", "names", "game.js", func(list files) { list.change(t, "game.js", "rules.wasm", "rule.wasm") }, "proof-request game.js rule.wasm", 7, false},
		{"a script", "slim", "lanterns.js", func(list files) { list.change(t, "lanterns.js", "count; i++", "count i++") }, "proof-exception lanterns.js SyntaxError", 2, false},
		{"a picture", "slim", "lamp.png", func(list files) { list["lamp.png"] = list["lamp.png"][:200] }, "proof-picture  look different", 0, false},
		{"a binary", "recode", "rules.wasm", func(list files) { list["rules.wasm"] = list["rules.wasm"][:20] }, "proof-exception index.html WebAssembly", 1, false},
		{"the page", "front", "index.html", func(list files) {
			list.change(t, "index.html", `<script type="module" src="game.js"></script>`, "")
		}, "proof-start  doesn't", 0, false},
		{"a policy", "plant", "index.html", func(list files) {
			list.change(t, "index.html", "<meta charset", `<meta http-equiv="Content-Security-Policy" content="connect-src 'none'"><meta charset`)
		}, "proof-blocked game.js Content Security Policy", 6, false},
		{"an adapter", "plant", "index.html", func(list files) {
			list.change(t, "index.html", "<body>", "<body><script>\nportal.begin();</script>")
		}, "proof-exception index.html portal is not defined", 10, false},
		{"a style", "slim", "style.css", func(list files) { list.change(t, "style.css", "display: block", "display: none") }, "proof-start  doesn't", 0, false},
		{"numbers", "slim", "levels/one.json", func(list files) { list.change(t, "levels/one.json", "4", "0") }, "proof-picture  look different", 0, false},
	} {
		t.Run(way.name, func(t *testing.T) {
			if !way.quick && os.Getenv("MATRIX") == "" {
				t.Skip("skipped: all ways take some minutes (make matrix)")
			}
			t.Parallel()
			good, spoiled := lane(t), lane(t)
			way.spoil(spoiled)
			var origins []pack.Origin
			for name := range good {
				o := pack.Origin{File: name, Name: name}
				if _, there := spoiled[name]; !there {
					o.Name = ""
				}
				if name == way.file {
					o.Steps = []string{way.step}
				}
				origins = append(origins, o)
			}
			p, err := store.Prove(context.Background(), Case{
				Export: good.build(t), Handed: Handed{Build: spoiled.build(t), Origins: origins, Steps: []string{"entry", way.step}},
				Program: program, Rules: &rulebook.Rulebook{Name: "Brackwater"},
				Replan: func(_ context.Context, without []string) (Handed, error) {
					if strings.Contains(strings.Join(without, " "), way.step) {
						return Handed{Build: good.build(t)}, nil
					}
					return Handed{Build: spoiled.build(t)}, nil
				},
			})
			if err != nil {
				t.Fatal(err)
			}
			if way.finds == "" {
				if p.Answer != Proven {
					t.Errorf("the answer is %s (%s %+v)", p.Answer, p.Why, p.Findings)
				}
				return
			}
			if p.Answer != Worse {
				t.Fatalf("the answer is %s (%s), want worse; export %+v\nhanded %+v", p.Answer, p.Why, brief(p.Export), brief(p.Handed))
			}
			want := strings.SplitN(way.finds, " ", 3)
			for _, f := range p.Findings {
				named := strings.Contains(f.Message, "changed by: "+way.step) || f.ID == "proof-picture" || f.ID == "proof-start" ||
					strings.Contains(f.Message, "WebAssembly") || f.ID == "proof-blocked"
				if f.ID == want[0] && f.File == want[1] && strings.Contains(f.Message, want[2]) && f.Line == way.line && named {
					if strings.Join(p.Without, " ") != way.step {
						t.Errorf("without %v it is said to pass, want %s", p.Without, way.step)
					}
					return
				}
			}
			for _, f := range p.Findings {
				t.Logf("%s %s:%d %s", f.ID, f.File, f.Line, f.Message)
			}
			t.Errorf("want %s, line %d", way.finds, way.line)
		})
	}
}

// brief is a run without its pictures.
func brief(r *Run) Run {
	b := *r
	b.Picture, b.First, b.Sights = nil, nil, nil
	return b
}
