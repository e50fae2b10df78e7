package export

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"havvel/internal/fault"
)

// led writes where a build's links lead, as "from target > path result".
func led(b *Build) []string {
	var list []string
	for _, l := range b.Links {
		list = append(list, fmt.Sprintf("%s %s > %s %s", l.From.Path, l.Target, l.Path, l.Result))
	}
	return list
}

func TestLinks(t *testing.T) {
	const page = `<canvas></canvas><script src="js/game.js"></script>`
	for name, c := range map[string]struct {
		files map[string]string
		want  []string // of js/game.js and others, without the page's own link to it
	}{
		"a fetch is relative to the page": {
			map[string]string{"js/game.js": `fetch("data/a.bin")`, "data/a.bin": "x"},
			[]string{"js/game.js data/a.bin > data/a.bin found"},
		},
		"an import is relative to its script": {
			map[string]string{"js/game.js": `import "./b.js"; import("../c.js")`, "js/b.js": "1", "c.js": "2"},
			[]string{"js/game.js ./b.js > js/b.js found", "js/game.js ../c.js > c.js found"},
		},
		"a loader doesn't look beside itself": {
			map[string]string{"js/game.js": `fetch("game.wasm"); load("other.wasm")`, "js/game.wasm": "\x00asm\x01\x00\x00\x00",
				"js/other.wasm": "\x00asm\x01\x00\x00\x00"},
			[]string{"js/game.js game.wasm > game.wasm missing", "js/game.js other.wasm > js/other.wasm found"},
		},
		"the letter case of a text": {
			map[string]string{"js/game.js": `load("art/Hero.png")`, "art/hero.png": "x"},
			[]string{"js/game.js art/Hero.png > art/hero.png other-case"},
		},
		"a missing file of a folder that is there": {
			map[string]string{"js/game.js": `load("art/gone.png"); load("nowhere/gone.png"); load("gone.png")`, "art/hero.png": "x"},
			[]string{"js/game.js art/gone.png > art/gone.png missing"},
		},
		"the compressed form": {
			map[string]string{"js/game.js": `fetch("a.pack")`,
				"a.pack.gz": "\x1f\x8b\x08\x00\x00\x00\x00\x00\x00\xff\xcaH\xcd\xc9\xc9\x07\x04\x00\x00\xff\xff\x86\xa6\x106\x05\x00\x00\x00"},
			[]string{"js/game.js a.pack > a.pack.gz found-compressed"},
		},
		"a name that a tool wrote before the bundler put a hash into it": {
			map[string]string{"js/game.js": `url ??= new URL("game_bg.wasm", import.meta.url); new URL("other.wasm", import.meta.url)`,
				"js/game-1a2b3c4d_bg.wasm": "\x00asm\x01\x00\x00\x00", "js/another-one.wasm": ""},
			[]string{"js/game.js other.wasm > js/other.wasm missing"},
		},
		"formats of data": {
			map[string]string{
				"js/game.js":     `load("maps/lane.tmx"); load("models/lamp.gltf")`,
				"maps/lane.tmx":  `<map><tileset source="../tiles/roof.tsx"/></map>`,
				"tiles/roof.tsx": "<image source=\"Roof.png\"/>\n<image source='../tiles/gone.png'/><p>made.with love</p>", "tiles/roof.png": "x",
				"models/lamp.gltf": `{"buffers":[{"uri":"lamp%20one.bin"}]}`, "models/lamp one.bin": "x", "art/lane.atlas": "lane.png\nsize: 4,4\n",
				"art/lane.png": "x", "credits.txt": "art/gone.png by Moor", "LICENSE": "art/lane.png",
			},
			[]string{"art/lane.atlas lane.png > art/lane.png found", "js/game.js maps/lane.tmx > maps/lane.tmx found", "js/game.js " +
				"models/lamp.gltf > models/lamp.gltf found", "maps/lane.tmx ../tiles/roof.tsx > tiles/roof.tsx found",
				"models/lamp.gltf lamp%20one.bin > models/lamp one.bin found", "tiles/roof.tsx Roof.png > tiles/Roof.png other-case",
				"tiles/roof.tsx ../tiles/gone.png > tiles/gone.png missing"},
		},
		"names that are put behind a folder's": {
			map[string]string{"js/game.js": "", "data/list.json": `{"path":"img/","files":[{"src":"hero.png"},{"src":"img/gone.png"}]}`,
				"img/hero.png": "x"},
			[]string{"data/list.json img/gone.png > img/gone.png missing"},
		},
		"a page within the entry page": {
			map[string]string{
				"js/game.js":           `fetch("data/a.bin")`,
				"inner/play.html":      `<script src="js/main.js"></script><script src="../js/game.js"></script>`,
				"inner/js/main.js":     `load("art/a.png"); load("art/gone.png"); get("data/list.json")`,
				"inner/art/a.png":      "x",
				"inner/data/a.bin":     "x",
				"inner/data/list.json": `["art/a.png"]`,
			},
			[]string{"inner/data/list.json art/a.png > inner/art/a.png found", "inner/js/main.js art/a.png > inner/art/a.png found",
				"inner/js/main.js art/gone.png > inner/art/gone.png missing", "inner/js/main.js data/list.json > inner/data/list.json found",
				"inner/play.html js/main.js > inner/js/main.js found", "inner/play.html ../js/game.js > js/game.js found",
				"js/game.js data/a.bin > data/a.bin missing"},
		},
		"a piece of a page that a script puts into it": {
			map[string]string{"js/game.js": `$("#menu").load("parts/menu.html")`,
				"parts/menu.html": `<p><img src="art/a.png"><img src="b.png"><img src="none.png">`, "art/a.png": "x", "parts/b.png": "x"},
			[]string{"js/game.js parts/menu.html > parts/menu.html found", "parts/menu.html art/a.png > art/a.png found", "parts/menu.html " +
				"b.png > parts/b.png found", "parts/menu.html none.png > parts/none.png missing"},
		},
		"other origins": {
			map[string]string{"js/game.js": `fetch("https://h.example/a.json"); new WebSocket("ws://h.example/")`},
			[]string{"js/game.js https://h.example/a.json >  other-origin", "js/game.js ws://h.example/ >  insecure"},
		},
		"a web manifest": {
			map[string]string{"js/game.js": "", "app.webmanifest": `{"icons":[{"src":"art/a.png"},{"src":"art/b.png"}]}`, "art/a.png": "x"},
			[]string{"app.webmanifest art/a.png > art/a.png found", "app.webmanifest art/b.png > art/b.png missing"},
		},
		"a list of files": {
			map[string]string{"js/game.js": "", "data/list.json": `["one.bin","hello.world"]`, "data/one.bin": "x"},
			[]string{"data/list.json one.bin > data/one.bin found"},
		},
		"a text that is no name": {map[string]string{"js/game.js": `a = "hello.world"; b = "v1.2.x"`}, nil},
	} {
		c.files["index.html"] = page
		b := readFiles(t, c.files)
		got := slices.DeleteFunc(led(b), func(s string) bool { return strings.HasPrefix(s, "index.html") })
		for i := range c.want { // the path of a file under another name is that of the link
			c.want[i] = strings.ReplaceAll(c.want[i], "> art/hero.png other-case", "> art/Hero.png other-case")
			c.want[i] = strings.ReplaceAll(c.want[i], "> a.pack.gz found-compressed", "> a.pack found-compressed")
		}
		if !slices.Equal(got, c.want) {
			t.Errorf("%s:\n got %q\nwant %q", name, got, c.want)
		}
	}
}

// TestUnlinked: only what nothing can mean is said to be unused.
func TestUnlinked(t *testing.T) {
	b := readFiles(t, map[string]string{
		"index.html":        `<canvas></canvas><script src="game.js"></script>`,
		"game.js":           "load(`levels/${n}.json`); load('art/' + name); setPath('sound/'); x = dir + '/map.bin'",
		"levels/1.json":     "{}",
		"art/a.png":         "x",
		"sound/deep/b.ogg":  "x",
		"world/map.bin":     "x",
		"levels/readme.txt": "x",
		"old/c.png":         "x",
	})
	var got []string
	for _, f := range b.Unlinked() {
		got = append(got, f.Path)
	}
	if want := []string{"levels/readme.txt", "old/c.png"}; !slices.Equal(got, want) {
		t.Errorf("got %q, want %q", got, want)
	}
}

// TestManyPatterns: names with unknown parts are held against files only so often, however many there are.
func TestManyPatterns(t *testing.T) {
	files := map[string]string{"index.html": "<canvas></canvas><script src=game.js></script>"}
	var script strings.Builder
	for i := range 30_000 {
		fmt.Fprintf(&script, "f(x+'/p%d.png');", i)
	}
	files["game.js"] = script.String()
	for i := range 3000 {
		files[fmt.Sprintf("a/%d.png", i)] = "x"
	}
	if b := readFiles(t, files); len(b.Unlinked()) < 2900 {
		t.Errorf("%d unlinked", len(b.Unlinked()))
	}
}

func TestBasePage(t *testing.T) {
	b := readFiles(t, map[string]string{
		"index.html":  `<base href="assets/"><canvas></canvas><script src="a.js"></script><img src="/b.png"><a href="./">x</a>`,
		"assets/a.js": "1", "b.png": "x",
	})
	want := []string{"index.html a.js > assets/a.js found", "index.html /b.png > b.png absolute", "index.html ./ > assets missing"}
	if got := led(b); !slices.Equal(got, want) {
		t.Errorf("\n got %q\nwant %q", got, want)
	}
}

// TestEnter: another entry page changes where links lead.
func TestEnter(t *testing.T) {
	b := readFiles(t, map[string]string{
		"index.html": "<canvas></canvas><script src=game.js></script>", "game.js": `fetch("a.bin")`,
		"demo/play.html": "<script src=../game.js></script>", "demo/a.bin": "x",
	})
	if l := b.Links[len(b.Links)-1]; l.Result != Missing && b.Links[1].Result != Missing {
		t.Errorf("%q", led(b))
	}
	if err := b.Enter("demo/play.html"); err != nil {
		t.Fatal(err)
	}
	if b.Entry.Path != "demo/play.html" || !slices.Contains(led(b), "game.js a.bin > demo/a.bin found") {
		t.Errorf("%q", led(b))
	}
	if err := b.Enter("game.js"); err == nil || !strings.Contains(fault.Of(err).Next, "its pages are: demo/play.html, index.html") {
		t.Errorf("%v", err)
	}
}

func TestStartAndMemory(t *testing.T) {
	png := "\x89PNG\r\n\x1a\n\x00\x00\x00\x0dIHDR\x00\x00\x00\x10\x00\x00\x00\x10"
	b := readFiles(t, map[string]string{
		"index.html": `<canvas></canvas><script src=game.js></script><img src=title.png><a href=more.html>more</a>`,
		"game.js":    `fetch("game.wasm"); fetch("a.pack"); later("level.png"); music("m.ogg")`,
		"game.wasm":  "\x00asm\x01\x00\x00\x00\x05\x04\x01\x01\x01\x02",
		"a.pack":     "\x00" + strings.Repeat("lantern ", 10_000), "title.png": png, "level.png": png, "more.html": "<p>", "m.ogg": "OggS",
	})
	var names []string
	start := b.Start()
	for _, f := range start.Files {
		names = append(names, f.Path)
	}
	slices.Sort(names)
	if want := []string{"a.pack", "game.js", "game.wasm", "index.html", "title.png"}; !slices.Equal(names, want) {
		t.Errorf("before the start: %q", names)
	}
	if start.Bytes < 80_000 || start.Wire > 5_000 {
		t.Errorf("%d bytes, %d on the wire", start.Bytes, start.Wire)
	}
	want := Memory{WasmInitial: 65536, WasmMaximum: 131072, Textures: 2 * 4 * 256, Data: 80_001}
	if m := b.Memory(); m != want {
		t.Errorf("%+v, want %+v", m, want)
	}
	if d := b.Duplicates(); len(d) != 1 || d[0][0].Path != "level.png" || d[0][1].Path != "title.png" {
		t.Errorf("%v", d)
	}
	if b.NeedsIsolation() != nil || len(b.Features()) != 0 {
		t.Errorf("needs %v %v", b.NeedsIsolation(), b.Features())
	}
}
