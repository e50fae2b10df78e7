package tests

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"havvel/internal/demo/game"
	model "havvel/internal/hosting"
)

// level is what the games of this file load: they draw when they have got it.
const level = `{"lanterns": [3, 1, 4, 1, 5, 9, 2, 6, 5, 3, 5, 8, 9, 7, 9, 3, 2, 3, 8, 4, 6, 2, 6, 4, 3, 3, 8, 3, 2, 7, 9, 5, 0, 2, 8, ` +
	`8, 4, 1, 9, 7, 1, 6, 9, 3, 9, 9, 3, 7, 5, 1]}`

// A way is one in which a game loads a compressed file.
type way struct {
	script string // calls start with the level, as a text or as bytes
	files  game.Files
}

// start draws when the level is the right one.
const start = `function start(x) { if (typeof x !== "string") x = new TextDecoder().decode(x); if (JSON.parse(x).lanterns.length !== ` +
	`50) throw Error("another level");
const c = document.getElementById("lane").getContext("2d"); c.fillStyle = "#ffc85a"; c.fillRect(0, 0, 300, 150); }
`

// module is WebAssembly that exports a function f, which returns 50.
const fifty = "\x00asm\x01\x00\x00\x00\x01\x05\x01\x60\x00\x01\x7f\x03\x02\x01\x00\x07\x05\x01\x01f\x00\x00\x0a\x06\x01\x04\x00\x41\x32\x0b"

// ways lists them. Those that begin with a star run in every test, the others in make matrix.
func ways(t *testing.T) map[string]way {
	raw := []byte(level)
	gz, br, flat := squeezed(t, "gzip", raw), squeezed(t, "br", raw), squeezed(t, "deflate-raw", raw)
	wasm := `WebAssembly.instantiate(%s, {}).then(({ instance }) => { if (instance.exports.f() === 50) start('` + level + `') })`
	return map[string]way{
		"*the game unpacks it, by a stream": {
			`const r = await fetch("one.json.gz"); start(await new Response(r.body.pipeThrough(new DecompressionStream("gzip"))).text());`,
			game.Files{"one.json.gz": gz},
		},
		"*the host unpacks it": {
			`start(JSON.stringify(await (await fetch("one.json.gz")).json()));`,
			game.Files{"one.json.gz": gz},
		},
		"*nobody unpacks it": {`start(JSON.stringify(await (await fetch("one.json")).json()));`, game.Files{"one.json": br}},
		"by a writer": {
			`const d = new DecompressionStream("gzip"), w = d.writable.getWriter(); w.write(await (await fetch("one.json.gz")).arrayBuffer()); ` +
				`w.close(); start(await new Response(d.readable).text());`,
			game.Files{"one.json.gz": gz},
		},
		"by a function of its own": {
			`async function open(b, how) { return new Response(b.stream().pipeThrough(new DecompressionStream(how))).arrayBuffer() } ` +
				`fetch("one.json.gz").then(r => r.blob()).then(b => open(b, "gzip")).then(start);`,
			game.Files{"one.json.gz": gz},
		},
		"in a worker": {
			`const w = new Worker("worker.js"); w.onmessage = e => start(e.data);`,
			game.Files{
				"worker.js": []byte(
					`fetch("one.json.gz").then(r => new Response(r.body.pipeThrough(new DecompressionStream("gzip"))).text()).then(x => postMessage(x))`,
				),
				"one.json.gz": gz,
			},
		},
		"a name put together": {
			"for (const n of ['one']) { const r = await fetch(`levels/${n}.json.gz`); start(await new Response(r.body.pipeThrough(new " +
				"DecompressionStream('gzip'))).text()) }",
			game.Files{"levels/one.json.gz": gz},
		},
		"under a name that tells nothing": {
			`const r = await fetch("one.level"); start(await new Response(r.body.pipeThrough(new DecompressionStream("gzip"))).text());`,
			game.Files{"one.level": gz},
		},
		"deflate without a header": {
			`const r = await fetch("one.level"); start(await new Response(r.body.pipeThrough(new DecompressionStream("deflate-raw"))).text());`,
			game.Files{"one.level": flat},
		},
		"unpacked when it is still compressed": {
			`let b = new Uint8Array(await (await fetch("one.json.gz")).arrayBuffer()); if (b[0] === 0x1f && b[1] === 0x8b) b = new ` +
				`Uint8Array(await new Response(new Blob([b]).stream().pipeThrough(new DecompressionStream("gzip"))).arrayBuffer()); start(b);`,
			game.Files{"one.json.gz": gz},
		},
		"brotli for the host": {`start(await (await fetch("one.json.br")).text());`, game.Files{"one.json.br": br}},
		"by a request of the old kind": {
			`const x = new XMLHttpRequest(); x.open("GET", "one.txt.br"); x.onload = () => start(x.responseText); x.send();`,
			game.Files{"one.txt.br": br},
		},
		"bytes by a request of the old kind": {
			`const x = new XMLHttpRequest(); x.open("GET", "one.txt.gz"); x.responseType = "arraybuffer"; x.onload = () => start(new ` +
				`Uint8Array(x.response)); x.send();`,
			game.Files{"one.txt.gz": gz},
		},
		"WebAssembly for the host": {
			fmt.Sprintf(wasm, `await (await fetch("rules.wasm.br")).arrayBuffer()`),
			game.Files{"rules.wasm.br": squeezed(t, "br", []byte(fifty))},
		},
		"WebAssembly while it is loaded": {
			`WebAssembly.instantiateStreaming(fetch("rules.wasm.gz"), {}).then(({ instance }) => { if (instance.exports.f() === 50) start('` +
				level + `') })`,
			game.Files{"rules.wasm.gz": squeezed(t, "gzip", []byte(fifty))},
		},
		"WebAssembly under a plain name": {
			`WebAssembly.instantiateStreaming(fetch("rules.wasm"), {}).then(({ instance }) => { if (instance.exports.f() === 50) start('` +
				level + `') })`,
			game.Files{"rules.wasm": squeezed(t, "gzip", []byte(fifty))},
		},
		"WebAssembly that the game unpacks": {
			fmt.Sprintf(wasm, `await new Response((await fetch("rules.wasm.gz")).body.pipeThrough(new DecompressionStream("gzip"))).arrayBuffer()`),
			game.Files{"rules.wasm.gz": squeezed(t, "gzip", []byte(fifty))},
		},
		"a script for the host": {
			`const s = document.createElement("script"); s.src = "part.js.br"; window.start = start; document.head.append(s);`,
			game.Files{"part.js.br": squeezed(t, "br", []byte("start('"+level+"')"))},
		},
		"a script under a plain name": {
			`const s = document.createElement("script"); s.src = "part.js"; window.start = start; document.head.append(s);`,
			game.Files{"part.js": squeezed(t, "gzip", []byte("start('"+level+"')"))},
		},
		"two gzip files in one": {
			`start(await (await fetch("one.json.gz")).text());`,
			game.Files{"one.json.gz": append(squeezed(t, "gzip", raw[:60]), squeezed(t, "gzip", raw[60:])...)},
		},
		"bytes after the end": {
			`start(await (await fetch("one.json.gz")).text());`,
			game.Files{"one.json.gz": append(squeezed(t, "gzip", raw), "\x00\x00\x00"...)},
		},
		"brotli under the name of gzip":  {`start(await (await fetch("one.json.gz")).text());`, game.Files{"one.json.gz": br}},
		"gzip under the name of brotli":  {`start(await (await fetch("one.json.br")).text());`, game.Files{"one.json.br": gz}},
		"plain under the name of brotli": {`start(await (await fetch("one.json.br")).text());`, game.Files{"one.json.br": raw}},
		"the same plain, too": {
			`const r = await fetch("one.json"); start(await r.text());`,
			game.Files{"one.json.gz": gz, "one.json": raw},
		},
		"something else plain": {
			`start(await (await fetch("one.json.gz")).text());`,
			game.Files{"one.json.gz": gz, "one.json": []byte(`{"other": 1}`)},
		},
		"named without its ending": {`const r = await fetch("one.json"); start(await r.text());`, game.Files{"one.json.gz": gz}},
		"a name in data": {
			`const { level } = await (await fetch("game.json")).json(); const r = await fetch(level); start(await new ` +
				`Response(r.body.pipeThrough(new DecompressionStream("gzip"))).text());`,
			game.Files{"game.json": []byte(`{"level": "levels/one.json.gz"}`), "levels/one.json.gz": gz},
		},
		"a name in data, unpacked by the host": {
			`const { level } = await (await fetch("game.json")).json(); start(await (await fetch(level)).text());`,
			game.Files{"game.json": []byte(`{"level": "levels/one.json.br"}`), "levels/one.json.br": br},
		},
		"a form for each browser": {
			`let end = ".br"; if (/Safari/.test(navigator.userAgent)) end = ".gz"; start(await (await fetch("one.json" + end)).text());`,
			game.Files{"one.json.gz": gz, "one.json.br": br},
		},
		"a reader of the stream": {
			`const r = (await fetch("one.json.gz")).body.pipeThrough(new DecompressionStream("gzip")).getReader(); const all = []; for (;;) { ` +
				`const { value, done } = await r.read(); if (done) break; all.push(value) } start(await new Blob(all).text());`,
			game.Files{"one.json.gz": gz},
		},
		"an object whose methods load and unpack": {
			`class Loader { constructor(at) { this.at = at } async bytes(n) { return (await fetch(this.at + n)).arrayBuffer() } async text(n) ` +
				`{ return new Response(new Blob([await this.bytes(n)]).stream().pipeThrough(new DecompressionStream("gzip"))).text() } } ` +
				`start(await new Loader("levels/").text("one.json.gz"));`,
			game.Files{"levels/one.json.gz": gz},
		},
	}
}

// TestUnpacking runs games that load compressed files, on hosts that serve no encoding, gzip, brotli and both, as they are and as
// packed for that host. What pack calls good must start; what it refuses must not start as it is, and the reason names the file.
func TestUnpacking(t *testing.T) {
	browser := partner(t, "chromium")
	all := ways(t)
	for name, w := range builtWays(t) {
		all[name] = w
	}
	for name, w := range all {
		if !strings.HasPrefix(name, "*") && os.Getenv("MATRIX") == "" {
			continue
		}
		for _, serves := range [][]string{nil, {"gzip"}, {"br"}, {"gzip", "br"}} {
			t.Run(fmt.Sprintf("%s/%v", strings.TrimPrefix(name, "*"), serves), func(t *testing.T) {
				t.Parallel()
				w.on(t, browser, serves)
			})
		}
	}
}

// builtWays are those that bundlers made of libraries: folders of the corpus, each with a script and what it loads.
func builtWays(t *testing.T) map[string]way {
	list := map[string]way{}
	folders, _ := filepath.Glob(filepath.Join(os.Getenv("MATRIX"), "*", "game.js"))
	for _, file := range folders {
		w := way{files: game.Files{}}
		at := filepath.Dir(file)
		names, _ := filepath.Glob(filepath.Join(at, "*"))
		for _, name := range names {
			data, err := os.ReadFile(name)
			if err != nil {
				t.Fatal(err)
			}
			if filepath.Base(name) == "game.js" {
				w.script = string(data)
			} else {
				w.files[filepath.Base(name)] = data
			}
		}
		list[filepath.Base(at)] = w
	}
	return list
}

func (w way) on(t *testing.T, browser string, serves []string) {
	folder := t.TempDir()
	files := game.Files{
		"index.html": []byte(
			"<!doctype html><html lang=en><head><meta charset=utf-8><title>Tinderwick Lane</title></head><body><canvas " +
				"id=lane></canvas><script type=module src=game.js></script></body></html>",
		),
		"game.js": []byte(start + w.script),
	}
	for name, data := range w.files {
		files[name] = data
	}
	writeInto(t, filepath.Join(folder, "export"), files)
	encodings := strings.ReplaceAll(fmt.Sprintf("%q", serves), " ", ", ")
	writeInto(
		t,
		folder,
		game.Files{
			"havvel.toml": fmt.Appendf(
				nil,
				"[game]\ntitle = \"Tinderwick Lane\"\nshort = \"lane\"\nversion = \"1.0.0\"\nexport = \"export\"\n[to.plain]\naddress = "+
					"%q\nserves = %s\n",
				filepath.Join(folder, "site"),
				encodings,
			),
		},
	)
	play := func(at string) *played {
		r, err := playSide(context.Background(), browser, playedSide{Folder: at, At: "/games/7/", Host: model.Host{Encodings: serves}})
		if err != nil {
			t.Fatal(err)
		}
		return r
	}
	before := play(filepath.Join(folder, "export"))
	e := run(t, folder, "pack", "--json")
	if e.code != 0 {
		if before.Drawn {
			t.Errorf("it starts as it is, and is refused:\n%s%s", e.err, e.out)
		}
		for name := range w.files {
			if strings.Contains(e.err, filepath.Base(name)) {
				return
			}
		}
		t.Errorf("refused without saying which file:\n%s%s", e.err, e.out)
		return
	}
	answer := decode[struct{ Archives []struct{ Path string } }](t, e)
	after := play(filepath.Join(folder, answer.Archives[0].Path))
	switch {
	case after.Drawn:
	case before.Drawn:
		t.Errorf("it starts as it is, but not as packed: %+v\n%s", after, e.out)
	case !strings.Contains(e.out, "can't be told"):
		t.Errorf("packed without a word, and it doesn't start: %+v\n%s", after, e.out)
	}
}
