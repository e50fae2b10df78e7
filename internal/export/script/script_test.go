package script

import (
	"flag"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"havvel/internal/export/link"
)

var bases = map[link.Base]string{link.OfPage: "page", link.OfFile: "file", link.OfAny: "any", link.OfOrigin: "root"}

// found writes links as "use target certainty base".
func found(s *Script) (list []string) {
	for _, l := range s.Links {
		list = append(list, fmt.Sprintf("%s %s %s %s", l.Use, l.Target, l.Certainty, bases[l.Base]))
	}
	slices.Sort(list)
	return list
}

// TestRead: what names a file, what for, how surely, and relative to what.
func TestRead(t *testing.T) {
	for name, c := range map[string]struct {
		script string
		want   []string
	}{
		"imports": {`import a from "./a.js"; import "./b.js"; export { c } from './c.js'; import("./d.js"); import x from "bare"`,
			[]string{"script ./a.js certain file", "script ./b.js certain file", "script ./c.js certain file", "script ./d.js certain file"}},
		"loaders": {`fetch("a.json"); new Worker("w.js"); importScripts('i.js', "j.js"); x.open("GET", "b.bin"); new ` +
			`Audio("s.mp3")`, []string{"data a.json likely page", "data b.bin likely page", "media s.mp3 likely page", "script i.js likely page",
			"script j.js likely page", "script w.js likely page"}},
		"window.fetch": {`window.fetch("a.json"); self.fetch("b.json"); const get = window.fetch; get("c.json")`,
			[]string{"data a.json likely page", "data b.json likely page", "data c.json likely page"}},
		"own fetch": {`function fetch(a) { return a } fetch("a.json")`, []string{"data a.json possible any"}},
		"beside the script": {`new Worker(new URL("./w.js", import.meta.url)); fetch(new URL("a.bin", import.meta.url).href)`,
			[]string{"data a.bin likely file", "script ./w.js likely file"}},
		"relative to": {`new URL("b.png", document.baseURI); new URL("c.png", base); new URL("d.png", location.href); new ` +
			`URL("f.png", ""+import.meta.url); new URL("g.png", document.currentScript.src)`,
			[]string{"data *c.png possible any", "data b.png likely page", "data d.png likely page", "data f.png likely file",
				"data g.png likely file"}},
		"constants": {`const base = "Build/"; fetch(base + "lane.data"); fetch(` + "`${base}rules.bin`)",
			[]string{"data Build/lane.data likely page", "data Build/rules.bin likely page"}},
		"two scopes": {`function a() { const d = "one/"; fetch(d + "x.json") } function b() { const d = "two/"; fetch(d + ` +
			`"x.json") }`, []string{"data one/x.json likely page", "data two/x.json likely page"}},
		"concat": {`fetch("a/".concat(n, ".json")); fetch(["b", "c.json"].join("/"))`,
			[]string{"data a/*.json possible page", "data b/c.json likely page"}},
		"parameters": {`function load(name, dir = "img/") { const i = new Image(); i.src = dir + name } load("a.png"); ` +
			`load("b.png", "pic/")`, []string{"picture img/a.png likely page", "picture pic/b.png likely page"}},
		"returned": {`const asset = n => "art/" + n + ".png"; const i = document.createElement("img"); i.src = asset("moth")`,
			[]string{"picture art/moth.png likely page"}},
		"properties": {`const paths = { art: "art/", sound: { a: "snd/" } }; fetch(paths.art + "x.bin"); fetch(paths.sound.a + ` +
			`"y.bin")`, []string{"data art/x.bin likely page", "data snd/y.bin likely page"}},
		"statics and enums": {`class P { static art = "art/" } var D; (function(D) { D["A"] = "lvl/" })(D || (D = {})); fetch(P.art + ` +
			`"x.bin"); fetch(D.A + "1.json")`, []string{"data art/x.bin likely page", "data lvl/1.json likely page"}},
		"tables": {`const t = { a: "a.png", b: "b.png" }; const i = new Image; i.src = "art/" + t[k]`,
			[]string{"picture art/a.png likely page", "picture art/b.png likely page"}},
		"chunk maps": {`var u = e => "js/" + ({ 1: "lamp" }[e] || e) + "." + { 1: "aa", 2: "bb" }[e] + ".js"; const s = ` +
			`document.createElement("script"); s.src = u(n)`, []string{"script js/2.bb.js likely page", "script js/lamp.aa.js likely page"}},
		"public path": {`var r = {}; function n(e) { return m[e](n) } var m = { 1: (n) => { new Image().src = n.p + "a.png" } }; ` +
			`n.p = "/lane/"; n(1)`, []string{"picture /lane/a.png likely page"}},
		"put before": {`const at = function (e) { return "/lane/" + e }; const l = document.createElement("link"); l.href = at(x)`,
			[]string{"preload /lane/* possible page"}},
		"loops": {`for (const n of ["a", "b"]) fetch("lvl/" + n + ".json"); ["c.json", "d.json"].forEach(n => fetch(n)); ` +
			`Object.entries({ x: "e.bin" }).map(([k, v]) => fetch(v))`,
			[]string{"data c.json likely page", "data d.json likely page", "data e.bin likely page", "data lvl/a.json likely page",
				"data lvl/b.json likely page"}},
		"replace": {`const u = import.meta.url.replace(/[^/]*$/, ""); fetch(u + "a.bin"); fetch("x/NAME.json".replace("NAME", ` +
			`"moth"))`, []string{"data a.bin likely file", "data x/moth.json likely page"}},
		"folder of the script": {`const s = document.currentScript.src; const d = s.substring(0, s.lastIndexOf("/")); fetch(d + "/a.bin")`,
			[]string{"data ./a.bin likely file"}},
		"origin": {`fetch(new URL("/a.bin", location.origin)); fetch(location.origin + "/b.bin"); fetch(new URL("/c.bin", ` +
			`import.meta.url))`, []string{"data /a.bin likely root", "data /b.bin likely root", "data /c.bin likely file"}},
		"location": {`location = "a.html"; window.location.href = 'b.htm'; location.replace("c.html"); location.assign(h + ` +
			`"/i.html")`, []string{"page */i.html possible any", "page a.html likely page", "page b.htm likely page", "page c.html likely page"}},
		"added": {`let u = "img/"; u += n; u += ".png"; fetch(u)`,
			[]string{"data img/ possible page", "data img/* possible page", "data img/*.png possible page"}},
		"unknown": {"load(dir + '/a.png'); load(`img/${n}.png`); load(`a.png`)",
			[]string{"data */a.png possible any", "data a.png possible any", "data img/*.png possible any"}},
		"no names": {`"use strict"; x = "hello world."; y = 1.5 + "px"; z = "a.b c"; "1.2.3"; f("e.g. this")`, nil},
		"regular expressions": {`if (/"a.png/.test(x)) y = a / b / "c.png".length; if (x) /"/.test("d.png")`,
			[]string{"data c.png possible any", "data d.png possible any"}},
		"comments": {"// \"no.png\"\n/* 'no.js' */ f('a.png')", []string{"data a.png possible any"}},
		"escapes":  {`f("img\/a.png"); fetch("\x61.json")`, []string{"data a.json likely page", "data img/a.png possible any"}},
		"compared": {`if (p.startsWith("/img/")) f(); if (p === "/a.png") g(); u.slice(1)`, nil},
		"keys": {`const t = { "/a.png": 1, "b": 2 }; if (t["/a.png"]) f(); "/a.png" in t; fetch("/c.png")`,
			[]string{"data /c.png likely page"}},
		"lists": {`const n = ["a", "b"]; new Howl({ src: n.map(x => "/snd/" + x + ".wav") }); h("img", { src: "/" + m })`,
			[]string{"data /* possible page", "data /snd/a.wav possible page", "data /snd/b.wav possible page"}},
		"cut off": {`f("a.png"); g("b.p`, []string{"data a.png possible any"}},
		"service worker": {`caches.open("v1").then(c => c.addAll(["/", "/index.html", "lane.js"])); ` +
			`navigator.serviceWorker.register("/sw.js", { scope: "/" })`,
			[]string{"data / likely page", "data /index.html likely page", "data lane.js likely page", "page / likely page",
				"script /sw.js likely page"}},
		"attributes": {`e.setAttribute("src", "a.png"); e.setAttribute("title", "b.png")`,
			[]string{"data a.png likely page", "data b.png possible any"}},
		"destructured": {`const { base = "d/", name } = { base: "e/", name: "f.bin" }; fetch(base + name); function g({ src }) { ` +
			`fetch(src) } g({ src: "h.bin" })`, []string{"data d/f.bin possible page", "data e/f.bin possible page", "data h.bin likely page"}},
		"defaults": {`let w = "default.wasm"; if (M.w) w = M.w; fetch(w)`, []string{"data default.wasm possible page"}},
	} {
		s := Read([]byte(c.script))
		if got := found(s); !slices.Equal(got, c.want) {
			t.Errorf("%s: %s\n got %q\nwant %q", name, s.Unparsed, got, c.want)
		}
		for _, l := range s.Links {
			for _, p := range l.Pieces {
				if p.Len >= 0 && !p.Kept && !strings.Contains(c.script[p.Offset:p.Offset+p.Len], "\\") && c.script[p.Offset:p.Offset+p.Len] != p.Text &&
					!p.Root {
					t.Errorf("%s: at the place of %q stands %q", name, p.Text, c.script[p.Offset:p.Offset+p.Len])
				}
			}
		}
	}
}

// TestGuessed: whether the form of a file is chosen by what the browser says of itself.
func TestGuessed(t *testing.T) {
	for source, want := range map[string]bool{
		`fetch("lane" + (/Firefox/.test(navigator.userAgent) ? ".gz" : ".br"))`:                                     true,
		`const s = /Safari/.test(navigator.userAgent); let end = ".br"; if (s) end = ".gz"; fetch("lane" + end)`:    true,
		`function old() { return navigator.vendor == "x" } fetch(old() ? "lane.gz" : "lane.br")`:                    true,
		`const v = document.createElement("video"); fetch(v.canPlayType("video/webm") ? "lane.br" : "lane.gz")`:     true,
		"const m = MediaSource.isTypeSupported('x'); fetch(`lane.${m ? 'br' : 'gz'}`)":                              true,
		`var e = ".gz"; !/MSIE/.test(navigator.userAgent) && (e = ".br"); fetch("lane" + e)`:                        true,
		`fetch(self.DecompressionStream ? "lane.gz" : "lane.br")`:                                                   false,
		`fetch(level.platform ? "lane.gz" : "lane.br")`:                                                             false,
		`if (/Mobile/.test(navigator.userAgent)) document.body.className = "touch"; fetch("lane.br"); f("lane.gz")`: false,
		`fetch(/Safari/.test(navigator.userAgent) ? "lane.ogg" : "lane.mp3")`:                                       false,
	} {
		got := false
		for _, l := range Read([]byte(source)).Links {
			got = got || l.Guessed
		}
		if got != want {
			t.Errorf("%s: %v, want %v", source, got, want)
		}
	}
}

// TestBundles: what is read out of bundles that real bundlers made of our own sources, for three base paths each.
func TestBundles(t *testing.T) {
	files, err := filepath.Glob("testdata/*.js")
	if err != nil || len(files) == 0 {
		t.Fatal(err)
	}
	for _, file := range files {
		data, err := os.ReadFile(file)
		if err != nil {
			t.Fatal(err)
		}
		s := Read(data)
		got := strings.Join(found(s), "\n") + "\n"
		want := strings.TrimSuffix(file, ".js") + ".links"
		if *update {
			if err := os.WriteFile(want, []byte(got), 0o644); err != nil {
				t.Fatal(err)
			}
		}
		if wanted, err := os.ReadFile(want); err != nil || string(wanted) != got || s.Unparsed != "" {
			t.Errorf("%s: %s %v\n got %s\nwant %s", file, s.Unparsed, err, got, wanted)
		}
	}
}

var update = flag.Bool("update", false, "write down what is read out of testdata")

// FuzzRead: every piece of every link lies inside the script, and reading comes to its end.
func FuzzRead(f *testing.F) {
	for _, s := range []string{"f('a.png')", "`${a}`+'b.js'", "a/b/'c.js'", "import('./x.js')", "x = `a${`b${c}`}d.png`",
		"let a=[...a,...a];fetch(a[0])", "function f(a=f()){return{...f(a)}}fetch(f().x+'/')"} {
		f.Add([]byte(s))
	}
	f.Fuzz(func(t *testing.T, data []byte) {
		for _, l := range Read(append(make([]byte, 0, len(data)+8), data...)).Links {
			for _, p := range append(l.Pieces, link.Piece{Offset: l.Offset, Len: l.Len}) {
				if p.Len >= 0 && (p.Offset < 0 || p.Offset+p.Len > len(data)) {
					t.Fatalf("%+v lies outside of %d bytes", l, len(data))
				}
			}
		}
	})
}
