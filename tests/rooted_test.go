package tests

import (
	"context"
	"fmt"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"havvel/internal/demo/game"
)

// TestRooted packs exports that expect to be at a host's root, or in a folder of it, and runs both sides in a browser: the export where
// it expects to be, and what was packed below another folder.
func TestRooted(t *testing.T) {
	at := partner(t, "chromium")
	const draw = `const c = document.getElementById("lane").getContext("2d"); c.fillStyle = "#204060"; c.fillRect(0, 0, 300, 150);` +
		`function lamp(src, x) { const i = new Image(); i.onload = () => c.drawImage(i, x, 40); i.src = src; }`
	page := func(head, body string) []byte {
		return []byte(
			"<!doctype html><html lang=en><head><meta charset=utf-8><title>Tinderwick Lane</title>" + head + "</head><body><canvas " +
				"id=lane></canvas>" + body + "</body></html>",
		)
	}
	lamp := []byte("GIF89a\x01\x00\x01\x00\x80\x00\x00\xff\xc8\x5a\x00\x00\x00,\x00\x00\x00\x00\x01\x00\x01\x00\x00\x02\x02D\x01\x00;")
	for name, c := range map[string]struct {
		root  string
		files game.Files
	}{
		"classic scripts that pages in two folders run": {"/", game.Files{
			"index.html":           page("", `<script src="/js/shared.js"></script><iframe src="extra/two/?lvl=2"></iframe>`),
			"extra/two/index.html": page("", `<script src="/js/shared.js"></script>`),
			"js/shared.js":         []byte(draw + `lamp("/art/lamp.gif", 10); var n = "moth"; lamp("/art/" + n + ".gif", 60);`),
		}},
		"modules that pages in two folders run": {"/lane/", game.Files{
			"index.html":           page("", `<script type=module src="/lane/js/shared.js"></script><iframe src="extra/two/"></iframe>`),
			"extra/two/index.html": page("", `<script type=module src="/lane/js/shared.js"></script>`),
			"js/shared.js": []byte(`import { base } from "./paths.js";` + draw +
				"lamp(`/lane/art/lamp.gif`, 10); lamp(base + 'art/moth.gif', 60);"), "js/paths.js": []byte(`export const base = "/lane/";`),
		}},
		"what other modules export": {"/", game.Files{
			"index.html": page("", `<script type=module src="/js/game.js"></script>`),
			"js/game.js": []byte(`import { asset, Paths, more } from "./paths.js";` + draw +
				`lamp(asset("art/lamp.gif"), 10); lamp(Paths.art + "moth.gif", 60); lamp(more.at + "lamp.gif", 90);`),
			"js/paths.js": []byte(`export const asset = n => "/" + n; export class Paths { static art = "/art/"; } export const more = { at: ` +
				`"/art/" };`),
		}},
		"the origin": {"/", game.Files{
			"index.html": page("", `<script src="game.js"></script>`),
			"game.js":    []byte(draw + `lamp(new URL("/art/lamp.gif", location.origin), 10); lamp(window.location.origin + "/art/moth.gif", 90);`),
		}},
		"an import map with scopes and beginnings": {"/", game.Files{
			"index.html": page(`<script type="importmap">{"imports": {"rules": "/lib/rules.js", "parts/": "/parts/"}, "scopes": {"/old/": `+
				`{"rules": "/lib/old.js"}}}</script>`, `<script type=module src="/game.js"></script>`),
			"game.js": []byte(`import { n } from "rules"; import { o } from "./old/part.js"; import { p } from "parts/p.js";` + draw +
				`if (n + o + p === 6) lamp("art/lamp.gif", 10);`),
			"lib/rules.js": []byte("export const n = 1"), "lib/old.js": []byte("export const o = 2"),
			"old/part.js": []byte(`export { o } from "rules"`), "parts/p.js": []byte("export const p = 3"),
		}},
		"keys of tables, and texts that only look like paths": {"/", game.Files{
			"index.html": page("", `<script src="/game.js"></script>`),
			"game.js": []byte(draw +
				`const t = { "/art/lamp.gif": 1 }; if (t["/art/lamp.gif"] === 1 && !location.pathname.startsWith("/art/")) lamp("art/lamp.gif", ` +
				`10); lamp("/art/moth.gif".slice(1), 60);`),
		}},
		"a service worker's list": {"/", game.Files{
			"index.html": page("", `<script src="/game.js"></script>`),
			"game.js":    []byte(draw + `lamp("/art/lamp.gif", 10); navigator.serviceWorker.register("/sw.js", { scope: "/" });`),
			"sw.js": []byte(`addEventListener("install", e => e.waitUntil(caches.open("1").then(c => c.addAll(["/", "/game.js", ` +
				`"/art/moth.gif"]))));`),
		}},
		"markup and styles in scripts": {"/lane/", game.Files{
			"index.html": page(`<link rel=stylesheet href="/lane/s.css">`, `<script src="/lane/game.js"></script>`),
			"s.css":      []byte(`body { background: url("/lane/art/l\61mp.gif") }`),
			"game.js": []byte(draw +
				"const base = '/lane/'; document.body.insertAdjacentHTML('beforeend', `<img src=\"${base}art/moth.gif\">`); " +
				"document.body.style.borderImage = 'url(/lane/art/lamp.gif) 1'; lamp(base.concat('art/', 'lamp.gif'), 10);"),
		}},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			c.files["art/lamp.gif"], c.files["art/moth.gif"] = lamp, lamp
			folder := t.TempDir()
			writeInto(t, filepath.Join(folder, "export"), c.files)
			settings := fmt.Sprintf(
				"[game]\ntitle = \"Tinderwick Lane\"\nshort = \"lane\"\nversion = \"1.0.0\"\nexport = \"export\"\n[to.plain]\naddress = %q\n",
				filepath.Join(folder, "site"),
			)
			writeInto(t, folder, game.Files{"havvel.toml": []byte(settings)})
			answer := decode[struct{ Archives []struct{ Path string } }](t, run(t, folder, "pack", "--json").must(t, 0))
			before, err := playSide(context.Background(), at, playedSide{Folder: filepath.Join(folder, "export"), At: c.root})
			if err != nil {
				t.Fatal(err)
			}
			after, err := playSide(context.Background(), at, playedSide{Folder: filepath.Join(folder, answer.Archives[0].Path), At: "/games/7/"})
			if err != nil {
				t.Fatal(err)
			}
			if len(before.Failed) > 0 || len(before.Errors) > 0 || !before.Drawn || !slices.Contains(before.Loaded, "art/lamp.gif") {
				t.Fatalf("the export itself: %+v", before)
			}
			if worse := worsePlayed(before, after); len(worse) > 0 {
				t.Errorf("%s\n%+v", strings.Join(worse, "; "), after)
			}
		})
	}
}

// TestRootedRefused: what can't be made relative is refused with its place, and nothing is written.
func TestRootedRefused(t *testing.T) {
	folder := t.TempDir()
	writeInto(t, folder, game.Files{
		"export/index.html":   []byte("<!doctype html><title>Lane</title><canvas></canvas><script src=game.js></script>"),
		"export/game.js":      []byte("const i = new Image();\ni.src = [\"\", \"art\", \"lamp.gif\"].join(\"/\");"),
		"export/art/lamp.gif": []byte("GIF89a"),
		"havvel.toml": fmt.Appendf(
			nil,
			"[game]\ntitle = \"Lane\"\nshort = \"lane\"\nversion = \"1.0.0\"\nexport = \"export\"\n[to.plain]\naddress = %q\n",
			filepath.Join(folder, "site"),
		),
	})
	e := run(t, folder, "pack")
	if e.code != 1 || !strings.Contains(e.err+e.out, "game.js:2:") || !strings.Contains(e.err+e.out, "/art/lamp.gif") {
		t.Errorf("ended with %d\n%s%s", e.code, e.out, e.err)
	}
	if made, _ := filepath.Glob(filepath.Join(folder, "packed", "*")); len(made) > 0 {
		t.Errorf("written: %v", made)
	}
}
