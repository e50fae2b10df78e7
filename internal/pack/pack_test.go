package pack

import (
	"archive/zip"
	"bytes"
	"compress/flate"
	"compress/gzip"
	"context"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"maps"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"havvel/internal/export"
	"havvel/internal/fault"
	"havvel/internal/finding"
	"havvel/internal/progress"
	"havvel/internal/rulebook"
)

// arcade takes one zip and serves gzip.
var arcade = &rulebook.Rulebook{
	Name:    "Arcade",
	Archive: rulebook.Archive{HandOver: "zip"},
	Serves:  rulebook.Serves{Encodings: []string{"gzip"}},
	Hooks:   []rulebook.Hook{{Name: "SDK", Script: "/sdk.js", Place: "head-start", Required: true, Plant: true}},
}

// bare takes the same and wants nothing.
var bare = &rulebook.Rulebook{Name: "Bare", Archive: rulebook.Archive{HandOver: "zip"}}

func form(handOver string) *rulebook.Rulebook {
	r := *bare
	r.Archive.HandOver = handOver
	return &r
}

const page = "<!doctype html><html><head></head><body><script src=game.js></script></body></html>"

func build(t *testing.T, files map[string]string) (*export.Build, string) {
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
	t.Cleanup(func() { b.Close() })
	return b, folder
}

func cache(t *testing.T, folder string) *Cache {
	t.Helper()
	c, err := Open(folder)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { c.Close() })
	return c
}

// unpack reads an archive as any program would.
func unpack(t *testing.T, path string) map[string]string {
	t.Helper()
	z, err := zip.OpenReader(path)
	if err != nil {
		t.Fatal(err)
	}
	defer z.Close()
	files := map[string]string{}
	for _, f := range z.File {
		r, err := f.Open()
		if err != nil {
			t.Fatal(err)
		}
		data, err := io.ReadAll(r)
		if err != nil {
			t.Fatalf("%s: %v", f.Name, err)
		}
		files[f.Name] = string(data)
		if f.Mode() != 0o644 || f.Modified.Year() != 1980 || f.Flags&0x8 != 0 {
			t.Errorf("%s has mode %v, time %v and flags %x", f.Name, f.Mode(), f.Modified, f.Flags)
		}
	}
	return files
}

func packed(encoding, text string) string {
	data, err := encoded([]byte(text), encoding)
	if err != nil {
		panic(err)
	}
	return string(data)
}

// TestSteps packs builds, each with something to fix, and looks at what comes out.
func TestSteps(t *testing.T) {
	data := "\x00" + strings.Repeat("lantern ", 4000)
	sdk := For{Rules: arcade, Plants: true}
	plain := For{Rules: bare}
	for name, c := range map[string]struct {
		files  map[string]string
		to     For
		steps  string   // names of the steps, in order
		want   []string // names in the archive
		inside map[string]string
	}{
		"nothing but the script": {map[string]string{"index.html": page, "game.js": "1"}, sdk, "plant", []string{"game.js", "index.html"},
			map[string]string{"index.html": `<head>` + "\n" + `<!-- havvel: SDK --><script src="/sdk.js"></script>`}},
		"the script is there": {map[string]string{"index.html": strings.Replace(page, "<head>", `<head><script src="/sdk.js"></script>`, 1),
			"game.js": "1"}, sdk, "", []string{"game.js", "index.html"}, nil},
		"a folder around it": {map[string]string{"web/index.html": page, "web/game.js": "1", "web/a/b.bin": "2"}, sdk, "entry plant",
			[]string{"a/b.bin", "game.js", "index.html"}, map[string]string{"a/b.bin": "2"}},
		"another name": {map[string]string{"lane.html": page, "game.js": "1", "help.html": "<a href='lane.html#x'>a</a><a " +
			"href=./lane.html>b</a><a href=other/lane.html>c</a>"}, sdk, "entry plant", []string{"game.js", "help.html", "index.html"},
			map[string]string{"help.html": "<a href='index.html#x'>a</a><a href=./index.html>b</a><a href=other/lane.html>c</a>"}},
		"without recoding": {map[string]string{"lane.html": page, "game.js": "1", "help.html": "<a href=lane.html>a</a>"},
			For{Rules: bare, Without: []string{"recode"}}, "entry", []string{"game.js", "help.html", "index.html"},
			map[string]string{"help.html": "<a href=index.html>a</a>"}},
		"letter case": {map[string]string{"Index.html": page, "game.js": "1"}, plain, "entry", []string{"game.js", "index.html"}, nil},
		"in one of many folders": {map[string]string{"web/lane.html": page, "web/game.js": "fetch('a.bin')", "web/a.bin": "3",
			"notes.txt": "n"}, plain, "entry entry", []string{"index.html", "notes.txt", "web/a.bin", "web/game.js"},
			map[string]string{"index.html": `<base href="web/">`}},
		"junk": {map[string]string{"index.html": page, "game.js": "1", ".DS_Store": "x", ".git/config": "x", "a.js~": "x"},
			plain, "leave-out leave-out leave-out", []string{"game.js", "index.html"}, nil},
		"what is named": {map[string]string{"index.html": page, "game.js": "1", "a/notes.psd": "x", "old/game.js": "x"},
			For{Rules: bare, LeaveOut: []string{"*.psd", "old/"}}, "leave-out leave-out", []string{"game.js", "index.html"}, nil},
		"what is unused": {map[string]string{"index.html": page, "game.js": "load('a.bin')", "a.bin": "1", "old.bin": "x"},
			For{Rules: bare, LeaveUnused: true}, "leave-out", []string{"a.bin", "game.js", "index.html"}, nil},
		"a link in another case": {map[string]string{"index.html": page, "game.js": `fetch("Art/Lane.png?v=1")`,
			"s.css": `a{background:url("ART/lane.png")}`, "art/lane.png": "x"}, plain, "names names",
			[]string{"art/lane.png", "game.js", "index.html", "s.css"},
			map[string]string{"game.js": `fetch("art/lane.png?v=1")`, "s.css": `a{background:url("art/lane.png")}`}},
		"a name that can't follow takes the link's": {map[string]string{"index.html": page,
			"game.js": `fetch("X/lane.png".replace("X", "Art"))`, "art/lane.png": "x"}, plain, "names",
			[]string{"Art/lane.png", "game.js", "index.html"}, nil},
		"links from the root": {map[string]string{"index.html": strings.Replace(page, "=game.js", `="/s/game.js"`, 1),
			"s/game.js": `fetch("/a.bin"); import("/s/b.js"); new URL("/a.bin", import.meta.url)`, "s/b.js": "1", "a.bin": "2"}, plain,
			"names names", []string{"a.bin", "index.html", "s/b.js", "s/game.js"},
			map[string]string{"index.html": `src="s/game.js"`,
				"s/game.js": `fetch("a.bin"); import("./b.js"); new URL("../a.bin", import.meta.url)`}},
		"parts that are found beside their script": {map[string]string{"index.html": strings.Replace(page, "game.js", "s/game.js", 1),
			"s/game.js": "const rel=`modulepreload`,put=function(e){return`/`+e},at=e=>new " +
				"URL(import.meta.resolve(e));l.href=at(put(x));import(`./b.js`)", "s/b.js": "1"}, plain, "names",
			[]string{"index.html", "s/b.js", "s/game.js"}, map[string]string{"s/game.js": "return`../`+e}"}},
		"parts that are loaded ahead": {map[string]string{"index.html": page,
			"game.js": `const rel="modulepreload",put=function(e){return"/"+e};l.href=put(x);import("/s/b.js")`, "s/b.js": "1"}, plain, "names",
			[]string{"game.js", "index.html", "s/b.js"}, map[string]string{"game.js": `return"./"+e};l.href=put(x);import("./s/b.js")`}},
		"a path of all parts": {map[string]string{"index.html": page, "game.js": `n.p="/",m.p="/";s.src=n.p+n.u(e)`},
			plain, "names", []string{"game.js", "index.html"}, map[string]string{"game.js": `n.p="./",m.p="/";`}},
		"an import map from the root": {map[string]string{"index.html": strings.Replace(page, "<head>",
			`<head><script type="importmap">{"imports":{"b":"/s/b.js"}}</script>`, 1), "game.js": `import("b")`, "s/b.js": "1"}, plain, "names",
			[]string{"game.js", "index.html", "s/b.js"}, map[string]string{"index.html": `{"b":"./s/b.js"}`}},
		"a worker from the root": {map[string]string{"index.html": page,
			"game.js": `new Worker(new URL("/s/w.js", import.meta.url), { type: "module" })`, "s/w.js": `fetch("/a.bin"); fetch("b.bin")`,
			"a.bin": "1", "s/b.bin": "2"}, plain, "names names", []string{"a.bin", "game.js", "index.html", "s/b.bin", "s/w.js"},
			map[string]string{"game.js": `new URL("s/w.js", import.meta.url)`, "s/w.js": `fetch("../a.bin"); fetch("b.bin")`}},
		"a bundler's base path": {map[string]string{"index.html": strings.Replace(page, "game.js", "/lane/s/game.js", 1) +
			"<link rel=icon href=/lane/a.png><link rel=icon href=/a.png>",
			"s/game.js": `x.p="/lane/";x.p+"s/b.js";y.p="/";y.p+"";load("/lane/a.png")`, "s/b.js": "1", "a.png": "x"}, plain, "names names",
			[]string{"a.png", "index.html", "s/b.js", "s/game.js"},
			map[string]string{"s/game.js": `x.p="./";x.p+"s/b.js";y.p="/";y.p+"";load("a.png")`,
				"index.html": `src=s/game.js></script></body></html><link rel=icon href=a.png><link rel=icon href=a.png>`}},
		"data that scripts read": {map[string]string{"index.html": page, "game.js": `get("m/list.json");get("list.json")`,
			"m/list.json": `["/m/a.png"]`, "list.json": `["/m/a.png"]`, "m/a.webmanifest": `{"icons":[{"src":"/m/a.png"}]}`, "m/a.png": "1"},
			plain, "names names", []string{"game.js", "index.html", "list.json", "m/a.png", "m/a.webmanifest", "m/list.json"},
			map[string]string{"list.json": `["m/a.png"]`, "m/list.json": `["/m/a.png"]`, "m/a.webmanifest": `{"icons":[{"src":"a.png"}]}`}},
		"a base path in the page": {map[string]string{"index.html": strings.Replace(page, "<head>",
			`<head><base href="/lane/">`, 1) + "<img src=/lane/a.png>", "game.js": "fetch('a.png')", "a.png": "1"}, plain, "names names",
			[]string{"a.png", "game.js", "index.html"}, map[string]string{"index.html": `<base href="./">`, "game.js": "fetch('a.png')"}},
		"a base at the root": {map[string]string{"index.html": strings.Replace(page, "<head>", `<head><base href="/">`,
			1), "game.js": "fetch('a.bin')", "a.bin": "1"}, plain, "names", []string{"a.bin", "game.js", "index.html"},
			map[string]string{"index.html": `<base href="./">`, "game.js": "fetch('a.bin')"}},
		"a name that hosts can't take": {map[string]string{"index.html": page,
			"game.js": `fetch("night sky/l\u00e4rm (1).bin"); load("aux.js")`, "s.css": `a{background:url("night%20sky/lärm%20(1).bin")}`,
			"night sky/lärm (1).bin": "x", "aux.js": "2"}, For{Rules: plainNames}, "names names",
			[]string{"game.js", "index.html", "night-sky/larm--1-.bin", "s.css", "x-aux.js"},
			map[string]string{"s.css": `a{background:url("night-sky/larm--1-.bin")}`, "game.js": `load("x-aux.js")`}},
		"brotli where gzip is served": {map[string]string{"index.html": page,
			"game.js": `fetch("a.pack.br").then(keep("a.pack.br"))`, "a.pack.br": packed("br", data)}, sdk, "recode plant",
			[]string{"a.pack.gz", "game.js", "index.html"}, map[string]string{"game.js": `fetch("a.pack.gz").then(keep("a.pack.gz"))`,
				"a.pack.gz": packed("gzip", data)}},
		"gzip where nothing is served": {map[string]string{"index.html": page,
			"game.js": `const d = "data"; fetch(d + "/a.pack.gz")`, "data/a.pack.gz": packed("gzip", data)}, plain, "recode",
			[]string{"data/a.pack", "game.js", "index.html"}, map[string]string{"game.js": `fetch(d + "/a.pack")`, "data/a.pack": data}},
		"only the plain name is linked": {map[string]string{"index.html": page, "game.js": `fetch("a.pack")`,
			"a.pack.gz": packed("gzip", data)}, plain, "recode", []string{"a.pack", "game.js", "index.html"}, map[string]string{"a.pack": data}},
		"both forms are there": {map[string]string{"index.html": page, "game.js": `fetch("a.pack")`, "a.pack": data,
			"a.pack.br": packed("br", data)}, plain, "recode", []string{"a.pack", "game.js", "index.html"}, nil},
		"a script that is compressed": {map[string]string{"index.html": strings.Replace(page, "game.js", "game.js.br", 1),
			"game.js.br": packed("br", `fetch("a.pack.br")`), "a.pack.br": packed("br", data)}, plain, "recode recode",
			[]string{"a.pack", "game.js", "index.html"}, map[string]string{"game.js": `fetch("a.pack")`, "index.html": "src=game.js>"}},
		"plain to brotli": {map[string]string{"index.html": page, "game.js": `fetch("a.pack")`, "a.pack": data},
			For{Rules: openHost, Encode: "br"}, "recode", []string{"a.pack.br", "game.js", "index.html"},
			map[string]string{"game.js": `fetch("a.pack.br")`, "a.pack.br": packed("br", data)}},
		"plain that can't follow stays": {map[string]string{"index.html": page, "game.js": `fetch("a.p" + kind + "ck")`,
			"a.pack": data}, For{Rules: openHost, Encode: "br"}, "recode", []string{"a.pack", "game.js", "index.html"}, nil},
		"a game that unpacks by itself": {map[string]string{"index.html": page,
			"game.js": `fetch("a.pack.gz").then(new DecompressionStream("gzip"))`, "a.pack.gz": packed("gzip", data)}, plain, "recode",
			[]string{"a.pack.gz", "game.js", "index.html"}, nil},
		"smaller": {map[string]string{"index.html": page,
			"game.js": "/* long words */\nlet lantern   =   1 ;", "game.js.map": "{}",
			"a.json": "{ \"a\" :   [ 1 , 2 ],\n \"b\": \"long enough to be looked at, since small files are left alone\"  ,\n \"c\":   1 }"},
			For{Rules: bare, Slim: true}, "slim slim", []string{"a.json", "game.js", "index.html"},
			map[string]string{"a.json": `{"a":[1,2],"b":`}},
		"a front": {map[string]string{"index.html": strings.Replace(page, "<body>", "<body><canvas "+
			"width=640 height=480></canvas>", 1), "game.js": "1"}, For{Rules: bare,
			Front: &Front{Title: "Lane & Moor", Background: "#112", Bar: "#fc8", Canvas: "fit", Icon: &Art{"i.png", []byte("png")}}}, "front",
			[]string{"game.js", "havvel-i.png", "index.html"}, map[string]string{"index.html": "<title>Lane &amp; Moor</title>",
				"havvel-i.png": "png"}},
		"a stamp": {map[string]string{"index.html": page, "game.js": "1", StampName: "old"},
			For{Rules: bare, Short: "lane", Version: "1.0", Destination: "d"}, "stamp", []string{"game.js", StampName, "index.html"},
			map[string]string{StampName: `"version": "1.0"`}},
		"without": {map[string]string{"web/index.html": page, "web/game.js": "fetch('A.bin')", "web/a.bin": "1"},
			For{Rules: bare, Without: []string{"names"}, AcceptErrors: true}, "entry", []string{"a.bin", "game.js", "index.html"},
			map[string]string{"game.js": "fetch('A.bin')"}},
	} {
		t.Run(name, func(t *testing.T) {
			b, folder := build(t, c.files)
			plan, err := cache(t, t.TempDir()).Plan(context.Background(), b, c.to)
			if err != nil {
				t.Fatal(err)
			}
			var steps []string
			for _, s := range plan.Steps {
				steps = append(steps, s.Name)
			}
			if got := strings.Join(steps, " "); got != c.steps {
				t.Errorf("steps %q, want %q: %+v", got, c.steps, plan.Steps)
			}
			a, err := plan.Write(context.Background(), filepath.Join(t.TempDir(), "a"), progress.None)
			if err != nil {
				t.Fatal(err)
			}
			files := unpack(t, a.Path)
			if got := slices.Sorted(maps.Keys(files)); !slices.Equal(got, c.want) || a.Entries != len(c.want) {
				t.Errorf("holds %q, want %q", got, c.want)
			}
			for name, text := range c.inside {
				if !strings.Contains(files[name], text) {
					t.Errorf("%s lacks %q:\n%.2000s", name, text, files[name])
				}
			}
			for name, data := range c.files {
				if now, err := os.ReadFile(filepath.Join(folder, name)); err != nil || string(now) != data {
					t.Errorf("the export's %s was changed (%v)", name, err)
				}
			}
		})
	}
}

// openHost serves all encodings.
var openHost = &rulebook.Rulebook{
	Name:    "Open",
	Archive: rulebook.Archive{HandOver: "zip"},
	Serves:  rulebook.Serves{Encodings: []string{"gzip", "br"}},
}

var plainNames = &rulebook.Rulebook{Name: "Plain", Archive: rulebook.Archive{HandOver: "zip", Names: "plain"}}

// TestForms: the forms of the hand-over hold the same build.
func TestForms(t *testing.T) {
	files := map[string]string{
		"index.html": strings.Replace(page, "<head>", "<head><link rel=stylesheet href=s.css>", 1),
		"game.js":    `const parts = ["a.wasm"]; fetch(parts[0]); "</script>"`,
		"s.css":      "a{background:url(b.png)}",
		"b.png":      "\x89PNG\r\n\x1a\n",
		"a.wasm":     "\x00asm\x01\x00\x00\x00",
	}
	pack := func(handOver string) (*Archive, error) {
		b, _ := build(t, files)
		plan, err := cache(t, t.TempDir()).Plan(context.Background(), b, For{Rules: form(handOver), Short: "lane", Version: "1"})
		if err != nil {
			return nil, err
		}
		return plan.Write(context.Background(), filepath.Join(t.TempDir(), "a"), progress.None)
	}
	apart, err := pack("entry-apart")
	if err != nil {
		t.Fatal(err)
	}
	rest := unpack(t, apart.Parts[1].Path)
	if entry, err := os.ReadFile(apart.Parts[0].Path); err != nil || string(entry) != files["index.html"] || rest["index.html"] != "" ||
		rest["game.js"] != files["game.js"] ||
		len(rest) != 5 {
		t.Errorf("apart: %v, %q", err, slices.Sorted(maps.Keys(rest)))
	}
	folder, err := pack("folder")
	if err != nil {
		t.Fatal(err)
	}
	if data, err := os.ReadFile(filepath.Join(folder.Path, "a.wasm")); err != nil || string(data) != files["a.wasm"] || folder.Entries != 6 {
		t.Errorf("folder: %q, %v", data, err)
	}
	one, err := pack("one-page")
	if err != nil {
		t.Fatal(err)
	}
	held := unfold(t, one.Path)
	for name, data := range files {
		if held[name] != data {
			t.Errorf("the page's %s is %q", name, held[name])
		}
	}
	var level bytes.Buffer
	z := gzip.NewWriter(&level)
	z.Write([]byte(strings.Repeat("every lantern on the lane", 9)))
	z.Close()
	whole := files["game.js"]
	files["own.gz"], files["host.txt.gz"] = level.String(), level.String()
	files["game.js"] += `; fetch("own.gz").then(r => r.body.pipeThrough(new DecompressionStream("gzip"))); fetch("host.txt.gz").then(r ` +
		`=> r.text())`
	if one, err = pack("one-page"); err != nil {
		t.Fatal(err)
	}
	held = unfold(t, one.Path)
	if held["own.gz"] != level.String() || held["host.txt"] != strings.Repeat("every lantern on the lane", 9) {
		t.Error("what the game unpacks must stay compressed in the page, and what the host would have unpacked must be plain")
	}
	delete(files, "own.gz")
	delete(files, "host.txt.gz")
	files["game.js"] = whole
	files["index.html"] = strings.Replace(files["index.html"], "</body>", "<a href=help.html>help</a></body>", 1)
	files["help.html"], files["w.js"], files["v.js"] = "<p>", `import "./v.js"`, `import "./w.js"; import("./w.js"); import.meta.url`
	if one, err = pack("one-page"); err != nil || unfold(t, one.Path)["help.html"] != "<p>" {
		t.Errorf("a link to another page: %v", err)
	}
	files["index.html"] = page
	files["game.js"] = `new Worker("w.js", { type: "module" })`
	if _, err := pack("one-page"); fault.Of(err).At.File == "" || !strings.Contains(err.Error(), "leads back to itself") {
		t.Errorf("a worker's circle: %v", err)
	}
}

// unfold reads what a page holds.
func unfold(t *testing.T, file string) map[string]string {
	t.Helper()
	page, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	var stream []byte
	for _, m := range regexp.MustCompile(`<script type="text/held">([^<]*)<`).FindAllSubmatch(page, -1) {
		part, err := base64.StdEncoding.DecodeString(string(m[1])) // a browser reads the other coding in tests of pages
		if err != nil {
			t.Fatal(err)
		}
		stream = append(stream, part...)
	}
	all, err := io.ReadAll(flate.NewReader(bytes.NewReader(stream)))
	if err != nil || !strings.Contains(string(page), `id="havvel-build"`) {
		t.Fatalf("%v in a page of %d bytes", err, len(page))
	}
	var length int
	fmt.Sscan(string(all[:10]), &length)
	var index struct{ Files map[string][3]any }
	if err := json.Unmarshal(all[10:10+length], &index); err != nil {
		t.Fatal(err)
	}
	held := map[string]string{}
	for name, f := range index.Files {
		start, bytes := int(f[1].(float64)), int(f[2].(float64))
		held[name] = string(all[10+length+start : 10+length+start+bytes])
	}
	return held
}

// TestRefusals: what can't be packed is said, and leaves nothing behind.
func TestRefusals(t *testing.T) {
	good := map[string]string{"index.html": page, "game.js": "1"}
	data, cut := packed("br", strings.Repeat("lantern ", 100)), packed("gzip", strings.Repeat("lantern ", 100))
	cut = cut[:len(cut)-4]
	for name, c := range map[string]struct {
		files map[string]string
		to    For
		says  string
	}{
		"no page": {map[string]string{"game.js": "1"}, For{}, "no HTML page"},
		"can't be lifted": {map[string]string{"web/index.html": "<base href=x/>" + page, "web/game.js": "1", "other/a.bin": "2"}, For{},
			"base address of its own"},
		"can't be followed": {map[string]string{"index.html": page, "game.js": "\nfetch(name + '.pack.br')", "a.pack.br": data},
			For{Rules: bare}, `a.pack.br: it can't become not compressed: game.js:2 may name it as "*.pack.br"`},
		"nobody names it": {map[string]string{"index.html": page, "game.js": "1", "a.pack.br": data}, For{Rules: bare},
			"nothing that can be read names it"},
		"a name not taken": {map[string]string{"index.html": page, "game.js": "fetch(n + ' sky.bin')", "night sky.bin": "1"},
			For{Rules: plainNames}, "Plain can't take this name"},
		"a damaged file": {map[string]string{"index.html": page, "game.js": "fetch('a.pack.gz')", "a.pack.gz": cut}, For{Rules: bare},
			"it is damaged"},
		"two with a new name": {map[string]string{"lane.html": page, "index.html": "<p>", "index-other.html": "<p>", "game.js": "1"}, For{},
			"there is another index.html"},
	} {
		b, _ := build(t, c.files)
		if name == "two with a new name" {
			if err := b.Enter("lane.html"); err != nil {
				t.Fatal(err)
			}
		}
		if _, err := cache(t, t.TempDir()).Plan(context.Background(), b, c.to); err == nil || !strings.Contains(err.Error(), c.says) {
			t.Errorf("%s: %v", name, err)
		}
	}
	b, folder := build(t, good)
	out := t.TempDir()
	write := func(ctx context.Context, to For) error {
		plan, err := cache(t, t.TempDir()).Plan(context.Background(), b, to)
		if err != nil {
			t.Fatal(err)
		}
		_, err = plan.Write(ctx, filepath.Join(out, "a"), progress.None)
		return err
	}
	var faulty *Faulty
	if err := write(context.Background(), For{Rules: arcade}); !errors.As(err, &faulty) || finding.Errors(faulty.Findings) != 1 ||
		faulty.Findings[0].ID != "hook-absent" {
		t.Errorf("an archive that the portal would not take: %v", err)
	}
	stopped, stop := context.WithCancel(context.Background())
	stop()
	if err := write(stopped, For{}); !errors.Is(err, context.Canceled) {
		t.Errorf("stopped: %v", err)
	}
	for _, now := range []string{"2", "22", ""} { // of the same length, longer, and shorter
		if err := os.WriteFile(filepath.Join(folder, "game.js"), []byte(now), 0o644); err != nil {
			t.Fatal(err)
		}
		if err := write(context.Background(), For{}); err == nil || !strings.Contains(err.Error(), "game.js: it changed while it was packed") {
			t.Errorf("a file that changed to %q: %v", now, err)
		}
	}
	if entries, err := os.ReadDir(out); err != nil || len(entries) > 0 {
		t.Errorf("left behind: %v (%v)", entries, err)
	}
}
