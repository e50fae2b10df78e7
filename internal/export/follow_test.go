package export

import (
	"context"
	"io"
	"slices"
	"strings"
	"testing"
)

// TestRewritten: what a link must say so that it leads to another name, and whether that can be written at its place.
func TestRewritten(t *testing.T) {
	for name, c := range map[string]struct {
		file, text string // that holds the link
		to         string // where a.pack goes
		want       string // the text at the link's place; "" when it can't be written
	}{
		"an attribute":               {"index.html", `<img src="a.pack">`, "b.pack", "b.pack"},
		"with a query":               {"index.html", `<img src="a.pack?v=1#x">`, "b.pack", "b.pack?v=1#x"},
		"into a folder":              {"index.html", `<img src="./a.pack">`, "x/b.pack", "./x/b.pack"},
		"with a character reference": {"index.html", `<img src="a.pack?x=1&amp;y=2">`, "b.pack", "b.pack?x=1&y=2"},
		"a name with a space":        {"index.html", `<img src="a.pack">`, "b c.pack", "b%20c.pack"},
		"a stylesheet":               {"x/s.css", `a{background:url(../a.pack)}`, "b.pack", "../b.pack"},
		"out of a folder":            {"x/s.css", `a{background:url("../a.pack")}`, "x/b.pack", "b.pack"},
		"a script":                   {"game.js", `fetch("a.pack")`, "b.pack", "b.pack"},
		"a script, in pieces":        {"game.js", `const d = "./"; fetch(d + "a.pack")`, "b.pack", "b.pack"},
		"in pieces, to a folder":     {"game.js", `const d = "./"; fetch(d + "a.pack")`, "x/b.pack", "x/b.pack"},
		"in pieces, another folder":  {"game.js", `const d = "../up/"; fetch(d + "a.pack")`, "b.pack", ""},
		"with escapes":               {"game.js", `fetch("\u002Fa.pack")`, "b.pack", "b.pack"},
		"a template":                 {"game.js", "fetch(`a.pack`)", "b.pack", "b.pack"},
		"a quote in the name":        {"game.js", `fetch("a.pack")`, `b".pack`, ""},
		"JSON":                       {"m.json", `{"src": "a.pack"}`, "b.pack", "b.pack"},
		"JSON with escapes":          {"m.json", `{"src": ".\/a.pack"}`, "b.pack", "./b.pack"},
	} {
		t.Run(name, func(t *testing.T) {
			files := map[string]string{
				"index.html": "<canvas></canvas><script src=game.js></script>",
				"game.js":    "1",
				"a.pack":     "\x00a",
				"up/a.pack":  "\x00b",
			}
			files[c.file] = c.text
			if c.file == "index.html" {
				files[c.file] += "<script src=game.js></script>"
			}
			b := readFiles(t, files)
			i := slices.IndexFunc(b.Links, func(l Link) bool {
				return strings.HasSuffix(l.Target, "a.pack") || strings.Contains(l.Target, "a.pack?")
			})
			if i < 0 {
				t.Fatalf("no link: %+v", b.Links)
			}
			l := b.Links[i]
			edits, _, ok := b.Rewritten(l, c.to)
			text := ""
			if len(edits) == 1 {
				text = edits[0].Text
			}
			if ok != (c.want != "") || ok && text != c.want {
				t.Errorf("%q becomes %q (%v), want %q", l.Target, text, ok, c.want)
			}
		})
	}
}

// TestFollowed: a file may be renamed only when everything that names it is known and can be changed.
func TestFollowed(t *testing.T) {
	for name, c := range map[string]struct{ script, says string }{
		"named once":               {`fetch("a.pack")`, ""},
		"named often":              {`const n = "a.pack"; keep("a.pack"); fetch("a.pack")`, ""},
		"named only without .gz":   {`fetch("b.bin")`, "nothing that can be read names it"},
		"a part that is not known": {`fetch("a.pack"); fetch(kind + ".pack")`, `may name it as "*.pack"`},
		"an ending not known":      {`fetch("a.pack" + kind)`, `may name it as "a.pack*"`},
		"a folder not known":       {`fetch(root + "/a.pack")`, `may name it as "*/a.pack"`},
		"nobody":                   {`1`, "nothing that can be read names it"},
	} {
		b := readFiles(
			t,
			map[string]string{"index.html": "<canvas></canvas><script src=game.js></script>", "game.js": c.script, "a.pack": "\x00a"},
		)
		err := b.Followed(b.File("a.pack"), "b.pack")
		if (err == nil) != (c.says == "") || err != nil && !strings.Contains(err.Error(), c.says) {
			t.Errorf("%s: %v", name, err)
		}
		places := 0
		for _, l := range b.NamesOf(b.File("a.pack")) {
			places += 1 + len(l.Again)
		}
		if name == "named often" && places != 3 {
			t.Errorf("%d places are known, not 3", places)
		}
	}
}

// TestWorkers: what a worker names is relative to itself, and what the page's scripts name to the page.
func TestWorkers(t *testing.T) {
	b := readFiles(t, map[string]string{
		"index.html": "<canvas></canvas><script src=s/game.js></script>",
		"s/game.js":  `new Worker("s/w.js"); new Worker(new URL("./v.js", import.meta.url)); fetch("a.pack")`,
		"s/w.js":     `fetch("a.pack")`, "s/v.js": `fetch("/a.pack")`, "a.pack": "\x00page", "s/a.pack": "\x00worker",
	})
	for _, l := range b.Links {
		if l.Use != "data" {
			continue
		}
		want := map[string]string{"s/game.js": "a.pack", "s/w.js": "s/a.pack", "s/v.js": "a.pack"}[l.From.Path]
		if l.To == nil || l.To.Path != want {
			t.Errorf("%s in %s leads to %v, want %s", l.Target, l.From.Path, l.To, want)
		}
		if l.From.Path == "s/v.js" && l.Named("a.pack") != "../a.pack" {
			t.Errorf("made relative it is %q", l.Named("a.pack"))
		}
	}
}

// TestAssemble: a build that is put together is the same as one that was read, and what is known is not read again.
func TestAssemble(t *testing.T) {
	b := readFiles(
		t,
		map[string]string{"index.html": "<canvas></canvas><script src=game.js></script>", "game.js": `fetch("a.pack")`, "a.pack": "\x00a"},
	)
	var parts []Part
	for _, f := range b.Files {
		parts = append(parts, Part{Path: f.Path, Same: f})
	}
	whole, err := Assemble(context.Background(), b.Path, "zip", parts)
	if err != nil || whole.Fingerprint != b.Fingerprint || whole.Entry == nil || len(whole.Links) != len(b.Links) || whole.Shape != b.Shape {
		t.Errorf("%+v, %v", whole, err)
	}
	changed := `fetch("b.pack")`
	for i := range parts {
		switch parts[i].Path {
		case "game.js":
			parts[i] = Part{
				Path:  "game.js",
				Bytes: int64(len(changed)),
				Open:  func() (io.ReadCloser, error) { return io.NopCloser(strings.NewReader(changed)), nil },
			}
		case "a.pack":
			parts[i].Path = "b.pack"
		}
	}
	other, err := Assemble(context.Background(), b.Path, "zip", parts)
	if err != nil || other.Fingerprint == b.Fingerprint || other.File("b.pack") == nil || len(other.Unlinked()) != 0 {
		t.Errorf("%+v, %v", other, err)
	}
	parts[0] = Part{Path: "short.js", Bytes: 5, Open: func() (io.ReadCloser, error) { return io.NopCloser(strings.NewReader("1")), nil }}
	if _, err := Assemble(context.Background(), b.Path, "zip", parts); err == nil {
		t.Error("a part that is shorter than announced was taken")
	}
}
