package tests

import (
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"havvel/internal/demo/game"
)

// small is a game that is drawn quickly: coloured squares that move. Each of its parts can be spoiled.
func small() game.Files {
	return game.Files{
		"index.html": []byte(
			`<!DOCTYPE html><html><head><meta charset="utf-8"><meta name="viewport" content="width=device-width"><title>Lane</title>` +
				`<link rel="icon" href="data:,"><style>html,body{margin:0;height:100%;overflow:hidden;background:#102}canvas{display:block;` +
				`width:100vw;height:100vh}</style></head>` +
				`<body><canvas></canvas><script src="game.js"></script></body></html>`,
		),
		"game.js": []byte(`const canvas = document.querySelector("canvas"), pen = canvas.getContext("2d");
function say(event, more) { window.dispatchEvent(new CustomEvent("game-event", { detail: { event, ...more } })); }
function size() { canvas.width = innerWidth * devicePixelRatio; canvas.height = innerHeight * devicePixelRatio; }
addEventListener("resize", size);
size();
say("loading-begun");
let score = 0;
function frame(now) {
	pen.fillStyle = "#102";
	pen.fillRect(0, 0, canvas.width, canvas.height);
	for (let i = 0; i < 40; i++) {
		pen.fillStyle = "hsl(" + i * 9 + ",80%,60%)";
		pen.fillRect((i * 53 + now / 9) % canvas.width, (i * 31) % canvas.height, 24, 24);
	}
	requestAnimationFrame(frame);
}
requestAnimationFrame(frame);
addEventListener("keydown", () => say("statistic", { name: "lanterns", value: ++score }));
addEventListener("pointerdown", () => say("statistic", { name: "lanterns", value: ++score }));
say("loading-done");
`),
	}
}

// body is what the small game draws in each frame, to be run in a worker.
func body(t *testing.T, script []byte) []byte {
	t.Helper()
	_, frame, ok := strings.Cut(string(script), "let score = 0;")
	frame, _, found := strings.Cut(frame, "addEventListener")
	if !ok || !found {
		t.Fatal("the small game has changed")
	}
	return []byte(frame + "};")
}

const smallRules = `format = "havvel-rulebook/2"
name   = "Little Portal"
[archive]
hand_over = "zip"
[serves]
encodings = []
[[view]]
name = "frame"
size = [320, 240]
[[hook]]
name   = "SDK"
script = "https://sdk.example/sdk.js"
place  = "head-start"
plant  = true
why    = "counts lanterns"
[[hook.call]]
call     = "Little.ready"
event   = "loading-done"
required = true
[[hook.call]]
call      = "Little.score"
event    = "statistic"
arguments = ["{name}", "{value}"]
`

const smallProject = `[game]
title = "Lane"
short = "lane"
version = "1"
export = "web"
[to.little]
rulebook = "little.toml"
address = "https://little.example"
[[statistic]]
name = "lanterns"
keeps = "highest"
[pack]
without = ["recode", "names"]
`

// tryProject writes a project with a game into a folder.
func tryProject(t *testing.T, files game.Files, more string) string {
	t.Helper()
	folder := write(t, game.Files{"little.toml": []byte(smallRules), "havvel.toml": []byte(smallProject + more)})
	for name, data := range files {
		writeInto(t, folder, game.Files{"web/" + name: data})
	}
	return folder
}

// TestTrialFinds runs builds, each with one mistake, in a real browser: each is named by its own finding, and nothing else is
// an error.
func TestTrialFinds(t *testing.T) {
	partner(t, "chromium")
	wasm := []byte("\x00asm\x01\x00\x00\x00")
	add := func(script string) func(game.Files) {
		return func(f game.Files) { f["game.js"] = append(f["game.js"], script...) }
	}
	change := func(file, old, new string) func(game.Files) {
		return func(f game.Files) {
			if !strings.Contains(string(f[file]), old) {
				t.Fatalf("%s lacks %q", file, old)
			}
			f[file] = []byte(strings.Replace(string(f[file]), old, new, 1))
		}
	}
	for name, c := range map[string]struct {
		spoil func(game.Files)
		more  string // of havvel.toml
		args  []string
		code  int
		ids   []string // of findings that must be there
		says  string
	}{
		"good": {func(game.Files) {}, "", nil, 0, nil, "It starts, with no errors"},
		"good, played": {func(game.Files) {}, "[trial]\nsteps = [\"press Enter\", \"tap 50% 50%\", \"drag 10% 50% to 90% 50%\", \"for 2: " +
			"press a; wait 10ms\", \"picture played\", \"expect statistic lanterns\", \"expect call Little.score\"]\n", nil, 0, nil, "6 calls"},
		"drawn by a worker": {func(f game.Files) {
			f["worker.js"] = append([]byte("self.window = self; const innerWidth = 320, innerHeight = 240, devicePixelRatio = 1; onmessage = "+
				"(e) => { const pen = e.data.getContext('2d'), canvas = e.data;"), body(t, f["game.js"])...)
			f["game.js"] = []byte(`const away = document.querySelector("canvas").transferControlToOffscreen();
new Worker("worker.js").postMessage(away, [away]);
window.dispatchEvent(new CustomEvent("game-event", { detail: { event: "loading-done" } }));`)
		}, "", nil, 0, nil, "It starts"},
		"drawn as bitmaps": {func(f game.Files) {
			change("game.js", `pen = canvas.getContext("2d")`,
				`back = new OffscreenCanvas(320, 240), pen = back.getContext("2d"), front = canvas.getContext("bitmaprenderer")`)(f)
			change("game.js", "	requestAnimationFrame(frame);",
				"	front.transferFromImageBitmap(back.transferToImageBitmap());\n	requestAnimationFrame(frame);")(f)
		}, "", nil, 0, nil, "It starts"},
		"loading never ends": {change("game.js", `say("loading-done");`, `fetch("night.pack").then((r) => r.ok && say("loading-done"));`), "",
			[]string{"--start", "3s"}, 1, []string{"trial-start"}, "night.pack: the game asks for it, and it is not there"},
		"stays black":  {change("game.js", `"hsl(" + i * 9 + ",80%,60%)"`, `"#102"`), "", nil, 1, []string{"trial-black"}, ""},
		"stands still": {change("game.js", `+ now / 9`, ``), "", nil, 0, []string{"trial-still"}, ""},
		"never called": {change("game.js", `say("loading-done");`, ``), "", []string{"--start", "3s"}, 1, []string{"trial-start"},
			"loading was begun and never done"},
		"no call at all": {func(f game.Files) {
			change("game.js", `say("loading-done");`, ``)(f)
			change("game.js", `say("loading-begun");`, ``)(f)
		}, "", nil, 1, []string{"trial-call"}, "Little.ready was not heard"},
		"called late": {func(f game.Files) {
			change("game.js", `say("loading-begun");`, ``)(f)
			change("game.js", `say("loading-done");`, `setTimeout(() => say("loading-done"), 4500);`)(f)
		}, "", []string{"--watch", "6s"}, 0, []string{"trial-late"}, ""},
		"score, wrong name": {change("game.js", `name: "lanterns"`, `name: "lantern"`), "[trial]\nsteps = [\"press Enter\", \"wait 200ms\"]\n",
			nil, 0, []string{"trial-silent", "trial-statistic"}, `"lanterns" is declared: write the name the same way`},
		"a step that fails": {func(game.Files) {}, "[trial]\nsteps = [\"expect event level-ended within 500ms\"]\n", nil, 1,
			[]string{"trial-step", "trial-silent"}, "the event level-ended did not come within 500ms"},
		"at the host's root": {func(f game.Files) {
			f["lane.json"] = []byte("{}")
			add(`const put = (name) => "/" + name; fetch(put("lane.json"));`)(f)
		}, "", nil, 1, []string{"trial-missing"}, "the game asks for it at the host's root"},
		"wrong content type": {func(f game.Files) {
			f["rules.bin"] = wasm
			add(`WebAssembly.instantiateStreaming(fetch("rules.bin")).catch((e) => console.warn(e));`)(f)
		}, "", nil, 1, []string{"trial-type"}, "rules.bin"},
		"tries what it can": {add(`document.createElement("canvas").getContext("webgl").getExtension("WEBGL_lose_context").loseContext();`),
			"", nil, 0, nil, "no errors"},
		"forbids itself": {change("index.html", "<head>", `<head><meta http-equiv=Content-Security-Policy content="img-src 'none'">`), "",
			nil, 0, []string{"trial-blocked"}, "the page's own policy forbids it"},
		"unpacked by the game": {func(f game.Files) {
			f["rules.packed"] = squeezed(t, "gzip", wasm)
			add(`fetch("rules.packed").then((r) => r.arrayBuffer());`)(f)
		}, "", nil, 0, nil, "no errors"},
		"brotli, no header": {func(f game.Files) {
			f["a.pack.br"] = squeezed(t, "br", []byte(strings.Repeat("lantern", 3000)))
			add(`fetch("a.pack.br");`)(f)
		}, "", nil, 1, []string{"trial-encoding"}, "a.pack.br"},
		"too large a canvas": {change("index.html", "width:100vw;height:100vh", "width:500px;height:300px"), "", nil, 1,
			[]string{"trial-outside"}, ""},
		"a page that scrolls": {change("index.html", "overflow:hidden", "padding:20px"), "", nil, 1,
			[]string{"trial-overflow", "trial-outside"}, ""},
		"stretched": {change("game.js", "innerHeight * devicePixelRatio;", "innerHeight * devicePixelRatio / 2;"), "", nil, 0,
			[]string{"trial-stretched"}, ""},
		"throws after a while": {add(`setTimeout(() => { null.lantern(); }, 3500);`), "", []string{"--watch", "5s"}, 1,
			[]string{"trial-exception"}, "game.js:21:"},
		"needs isolation": {change("game.js", `say("loading-done");`, `new SharedArrayBuffer(8); say("loading-done");`), "",
			[]string{"--start", "3s"}, 1, []string{"trial-start"}, "sends no isolation headers"},
		"another host": {add(`fetch("https://scores.example/top.json").catch(() => 0);`), "", nil, 0, []string{"trial-foreign"},
			"https://scores.example/top.json"},
		"a dialog": {add(`setTimeout(() => alert("The lane is lit"), 1000);`), "", nil, 1, []string{"trial-dialog"},
			"The lane is lit"},
		"goes on in another page": {func(f game.Files) {
			f["credits.html"] = []byte("<p>thanks")
			add(`setTimeout(() => location.href = "credits.html", 2500);`)(f)
		}, "", nil, 0, []string{"trial-page"}, "credits.html"},
		"leaves for the host's root": {add(`setTimeout(() => location.href = "/", 2500);`), "", nil, 1, []string{"trial-away"}, ""},
		"leaves for another host":    {add(`setTimeout(() => location.href = "https://lane.example/", 2500);`), "", nil, 1, []string{"trial-away"}, "lane.example"},
		"an accepted finding": {change("game.js", `+ now / 9`, ``), "[[accept]]\nid = \"trial-still\"\nreason = \"it is a still life\"\n", nil,
			0, nil, "no errors"},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			files := small()
			c.spoil(files)
			folder := tryProject(t, files, c.more)
			e := run(t, folder, append([]string{"trial"}, c.args...)...).must(t, c.code)
			if !strings.Contains(strings.Join(strings.Fields(e.out), " "), c.says) { // whatever its lines are broken at
				t.Errorf("does not say %q:\n%s", c.says, e.out)
			}
			for _, id := range c.ids {
				if !strings.Contains(e.out, id) {
					t.Errorf("does not find %s:\n%s", id, e.out)
				}
			}
			for line := range strings.SplitSeq(e.out, "\n") {
				if level, id, ok := strings.Cut(strings.TrimSpace(line), "  "); ok && (level == "error" || level == "warning") {
					id, _, _ = strings.Cut(strings.TrimSpace(id), " ")
					if level == "error" && !slices.Contains(c.ids, id) && id != "trial-missing" && id != "trial-exception" ||
						c.code == 0 && !slices.Contains(c.ids, id) {
						t.Errorf("finds %s, too:\n%s", id, e.out)
					}
				}
			}
		})
	}
}

// TestTrialBrowser: without a browser, or with one that fails, the trial ends with 3 and says what to do.
func TestTrialBrowser(t *testing.T) {
	t.Parallel()
	folder := tryProject(t, small(), "")
	crashes, hangs := filepath.Join(t.TempDir(), "crashes"), filepath.Join(t.TempDir(), "hangs")
	for file, script := range map[string]string{crashes: "#!/bin/sh\nexit 7\n", hangs: "#!/bin/sh\nexec sleep 600\n"} {
		if err := os.WriteFile(file, []byte(script), 0o755); err != nil {
			t.Fatal(err)
		}
	}
	for browser, says := range map[string]string{"/no/such/browser": "names /no/such/browser, and there is no such browser",
		crashes: "the browser crashed or hung", hangs: "the browser crashed or hung"} {
		e := runWith(t, folder, []string{"HAVVEL_BROWSER=" + browser}, "trial").must(t, 3, says, "HAVVEL_BROWSER")
		if strings.Contains(e.err, "goroutine") {
			t.Errorf("says too much: %s", e.err)
		}
	}
	runWith(
		t,
		folder,
		[]string{"HAVVEL_BROWSER=", "PATH=/nowhere"},
		"trial",
	).must(t, 3, "there is neither Chromium nor Firefox on this machine", "install Chromium")
	run(t, folder, "trial", "--view", "side").must(t, 2, `there is no view "side"; there is frame`)
}

// TestTrialRequired: where havvel.toml wants a clean trial, send waits for one of the same export.
func TestTrialRequired(t *testing.T) {
	t.Parallel()
	partner(t, "chromium")
	_, project := portal(t, nil)
	toml := snapshot(t, project)["/havvel.toml"] + "\n[trial]\nrequired = true\n"
	writeInto(t, project, game.Files{"havvel.toml": []byte(toml)})
	run(t, project, "send").must(t, 1, "requires a clean trial of this export, and there is none", "run havvel trial first")
	e := run(t, project, "trial", "--view", "frame", "--json").must(t, 0)
	r := decode[struct {
		Trials []struct {
			Fingerprint string
			Views       []struct {
				Name    string
				Started bool
				Heard   []struct{ Kind, Name string }
			}
		}
	}](t, e).Trials
	if len(r) != 1 || len(r[0].Views) != 1 || !r[0].Views[0].Started || len(r[0].Views[0].Heard) < 3 {
		t.Errorf("%+v", r)
	}
	run(t, project, "hooks").must(t, 0, "Brackwater.ready", "adapter, sent at loader.js:", "1st, once")
	run(t, project, "send").must(t, 0, "sent 0.4.0")
	run(t, project, "trial", "--view", "frame", "--format", "sarif").must(t, 0, `"version": "2.1.0"`)
	if report, err := os.ReadFile(filepath.Join(project, ".havvel", "trials", "brackwater.html")); err != nil ||
		!strings.Contains(string(report), "data:image/jpeg;base64,") ||
		strings.Contains(string(report), "http://") {
		t.Errorf("the report is not a page of its own (%v)", err)
	}
}

// TestTrialNoPage: an export without a page is said to have none, in a project and without one.
func TestTrialNoPage(t *testing.T) {
	partner(t, "chromium")
	export := write(t, game.Files{"game.js": []byte("1")})
	run(t, t.TempDir(), "trial", export).must(t, 2, "there is no page in it that could be tried")
	run(t, tryProject(t, small(), ""), "trial", export).must(t, 2, "there is no page in it that could be tried")
}

// TestTrialFrame: a trial runs the game in a frame as closed as the portal's, and sees what that blocks, and what workers load.
func TestTrialFrame(t *testing.T) {
	partner(t, "chromium")
	sandboxed := smallRules + "[frame]\nsandbox = [\"allow-scripts\", \"allow-same-origin\"]\n"
	for name, c := range map[string]struct {
		rules, script string
		code          int
		ids, says     string
	}{
		"as it is":       {sandboxed, ``, 0, "", "no errors"},
		"without origin": {smallRules + "[frame]\nsandbox = [\"allow-scripts\"]\n", ``, 0, "", "no errors"},
		"a dialog":       {sandboxed, `setTimeout(() => alert("The lane is lit"), 800);`, 0, "trial-blocked", "allow-modals"},
		"keeps a score": {smallRules + "[frame]\nsandbox = [\"allow-scripts\"]\n", `setTimeout(() => localStorage.setItem("best", 3), 800);`,
			1, "trial-exception", "allow-same-origin"},
		"full screen": {sandboxed,
			`addEventListener("load", () => screen.orientation.lock("landscape").catch((e) => console.error(e.message)));`, 0, "trial-console", ""},
		"a worker": {sandboxed,
			`new Worker(URL.createObjectURL(new Blob(["fetch('" + new URL("night.pack", location) + "'); fetch('" + new URL("dawn.pack", ` +
				`location) + "')"])));`,
			0, "trial-missing", "it starts without it"},
		"a worker, in other letters": {sandboxed,
			`new Worker(URL.createObjectURL(new Blob(["fetch('" + new URL("Night.pack", location) + "')"])));`, 1, "trial-missing", "Night.pack"},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			files := small()
			files["game.js"] = append(files["game.js"], c.script...)
			files["night.pack"] = []byte("a night")
			folder := tryProject(t, files, "")
			writeInto(t, folder, game.Files{"little.toml": []byte(c.rules)})
			e := run(t, folder, "trial").must(t, c.code, c.ids)
			if !strings.Contains(strings.Join(strings.Fields(e.out), " "), c.says) {
				t.Errorf("does not say %q:\n%s", c.says, e.out)
			}
			if name == "a worker" {
				last := run(t, folder, "trial", "--json").must(t, 0)
				if !strings.Contains(last.out, `"path": "night.pack"`) {
					t.Errorf("the worker's file is not among the requests: %s", last.out)
				}
			}
		})
	}
}
