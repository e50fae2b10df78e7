package tests

import (
	"fmt"
	"strings"
	"testing"

	"havvel/internal/demo/game"
)

// odd is a rulebook with a portal that keeps saves, has breaks by callback, and serves the game's files to no other origin.
const odd = `format = "havvel-rulebook/2"
name = "Quillmarsh"
[archive]
hand_over = "zip"
[frame]
sandbox = ["allow-scripts", "allow-same-origin"]
[[view]]
name = "frame"
size = [640, 360]
[[hook]]
name = "Quillmarsh SDK"
script = "https://sdk.quillmarsh.example/quill.js"
place = "head-start"
[[hook.call]]
call = "Quill.ready"
event = "loading-done"
required = true
[[hook.call]]
call = "Quill.keep"
event = "save"
arguments = ["{data}"]
answers = "promise"
[[hook.call]]
call = "Quill.kept"
event = "load"
answers = "promise"
take = "data"
example = { data = "nothing yet" }
[[hook.call]]
call = "Quill.interlude"
event = "break-wanted"
answers = "callback"
example = true
without = false
`

const oddProject = `[game]
title = "Tinderwick Lane"
short = "tinderwick-lane"
version = "1"
export = "export"
[to.quillmarsh]
rulebook = "odd.toml"
address = "http://127.0.0.1:1"
`

// picturePage is a page that draws, with a script of its own.
func picturePage(script string) game.Files {
	return game.Files{"export/index.html": []byte(`<!DOCTYPE html><meta charset="utf-8"><title>Tinderwick Lane</title>
<style>body { margin: 0; overflow: hidden } canvas { display: block; width: 100vw; height: 100vh }</style><canvas width="640" height="360"></canvas>
<script>
const canvas = document.querySelector("canvas");
const lane = (g) => (t) => { g.fillStyle = "#123"; g.fillRect(0, 0, 640, 360); g.fillStyle = "#fc6"; g.fillRect((t / 4) % 500, 90, 140, 140); };
const play = (draw) => { const step = (t) => { draw(t); requestAnimationFrame(step); }; requestAnimationFrame(step); };
` + script + `
</script>`), "odd.toml": []byte(odd), "havvel.toml": []byte(oddProject)}
}

type triedJSON struct{ Trials []triedOne }

type triedOne struct {
	Views []struct {
		Name, Answer, Why, Browser string
		Conditions, Cannot         []string
		Heard                      []struct {
			Name      string
			Arguments []any
		}
	}
	Findings []struct{ ID, Level, File, Message string }
}

func trialOf(t *testing.T, e ending) triedOne {
	t.Helper()
	list := decode[triedJSON](t, e).Trials
	if len(list) != 1 {
		t.Fatalf("%d trials: %s%s", len(list), e.out, e.err)
	}
	return list[0]
}

// TestConditions: what players have or lack shows, and only under that condition.
func TestConditions(t *testing.T) {
	partner(t, "chromium")
	for name, c := range map[string]struct{ script, condition, why string }{
		"storage": {`localStorage.setItem("night", "3"); play(lane(canvas.getContext("2d")));`, "no-storage", "refuses storage"},
		"webgl": {`const gl = canvas.getContext("webgl"); gl.clearColor(0, 0, .2, 1);
play((t) => { gl.disable(gl.SCISSOR_TEST); gl.clearColor(0, 0, .2, 1); gl.clear(gl.COLOR_BUFFER_BIT); gl.enable(gl.SCISSOR_TEST);
gl.scissor((t / 4) % 500, 90, 140, 140); gl.clearColor(1, .8, .4, 1); gl.clear(gl.COLOR_BUFFER_BIT); });`, "no-webgl", "null"},
		"webgpu": {`(async () => { const a = await navigator.gpu.requestAdapter(); if (!a) throw new Error("no adapter");
play(lane(canvas.getContext("2d"))); })();`, "no-webgpu", "requestAdapter"},
		"language": {`if ((1.5).toLocaleString() !== "1.5") throw new Error("a comma: " + (1.5).toLocaleString()); play(lane(canvas.getContext("2d")));`,
			"other-language", "a comma"},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			folder := t.TempDir()
			writeInto(t, folder, picturePage("\n"+c.script))
			r := trialOf(t, run(t, folder, "trial", "--json", "--as", c.condition))
			if len(r.Views) != 2 || r.Views[0].Answer != "yes" {
				t.Fatalf("without the condition: %+v", r.Views)
			}
			if v := r.Views[1]; v.Answer != "no" || !strings.Contains(v.Why, c.why) || v.Name != "frame, "+c.condition {
				t.Errorf("with it: %+v", v)
			}
		})
	}
	folder := t.TempDir()
	writeInto(t, folder, picturePage(""))
	run(t, folder, "trial", "--as", "cheap-fone").must(t, 2, `there is no condition "cheap-fone"; did you mean cheap-phone?`)
}

// TestPortalsMoods: however a game loads the portal's script, a stand-in answers, keeps what is saved, and can have a bad day.
func TestPortalsMoods(t *testing.T) {
	partner(t, "chromium")
	const script = `play(lane(canvas.getContext("2d")));
const s = document.createElement("script");
s.src = "https://sdk.quillmarsh.example/quill.js?build=7";
s.onerror = () => console.error("the portal is blocked");
s.onload = async () => {
	Quill.ready();
	const first = await Quill.kept().catch((e) => ({ data: "refused" }));
	await Quill.keep("night 3").catch(() => {});
	const then = await Quill.kept().catch((e) => ({ data: "refused" })) || { data: "gone" };
	Quill.interlude((was) => console.error("kept: " + first.data + ", " + then.data + "; break: " + was));
};
document.head.append(s);`
	for condition, says := range map[string]string{
		"":               "kept: nothing yet, night 3; break: true",
		"portal-blocked": "the portal is blocked",
		"portal-rejects": "kept: refused, refused; break: false",
		"no-break":       "break: false",
	} {
		t.Run(condition, func(t *testing.T) {
			t.Parallel()
			folder := t.TempDir()
			writeInto(t, folder, picturePage(script))
			words := []string{"trial", "--json", "--watch", "4s"}
			if condition != "" {
				words = append(words, "--as", condition)
			}
			r := trialOf(t, run(t, folder, words...))
			found := false
			for _, f := range r.Findings {
				found = found || strings.Contains(f.Message, says)
				if f.ID == "trial-foreign" || f.ID == "trial-missing" || f.ID == "trial-call" && f.Level == "error" && condition != "portal-rejects" {
					t.Errorf("%s: %s", f.ID, f.Message)
				}
			}
			if !found {
				t.Errorf("%q is not heard: %+v", says, r.Findings)
			}
		})
	}
}

// TestOpaque: a frame without an origin of its own gets what the portal sends, and nothing of Havvel's shows up in it.
func TestOpaque(t *testing.T) {
	partner(t, "chromium")
	for cors, want := range map[bool]string{false: "no", true: "yes"} {
		t.Run(fmt.Sprint(cors), func(t *testing.T) {
			t.Parallel()
			folder := t.TempDir()
			files := picturePage(`window.dispatchEvent(new CustomEvent("game-event", { detail: { event: "play-begun" } }));
fetch("night.json").then((r) => r.json()).then(() => play(lane(canvas.getContext("2d"))));`)
			files["export/night.json"] = []byte("{}")
			book := strings.Replace(odd, `"allow-scripts", "allow-same-origin"`, `"allow-scripts"`, 1)
			files["odd.toml"] = []byte(strings.Replace(book, "[frame]", fmt.Sprintf("[serves]\ncors = %v\n[frame]", cors), 1))
			writeInto(t, folder, files)
			r := trialOf(t, run(t, folder, "trial", "--json"))
			if r.Views[0].Answer != want || len(r.Views[0].Heard) == 0 || r.Views[0].Heard[0].Name != "play-begun" {
				t.Errorf("%+v, %+v", r.Views[0], r.Findings)
			}
			for _, f := range r.Findings {
				if strings.Contains(f.Message+f.File, "~havvel") {
					t.Errorf("Havvel's own: %+v", f)
				}
			}
		})
	}
}

// TestBrowsers: one trial in two browsers, each of which says what it can't tell.
func TestBrowsers(t *testing.T) {
	t.Parallel()
	partner(t, "chromium")
	partner(t, "firefox-esr")
	folder := t.TempDir()
	writeInto(t, folder, picturePage(`play(lane(canvas.getContext("2d")));`))
	edit(t, folder, "[to.quillmarsh]", "[trial]\nbrowsers = [\"chromium\", \"firefox\"]\n[to.quillmarsh]")
	r := trialOf(t, run(t, folder, "trial", "--json"))
	if len(r.Views) != 2 || r.Views[0].Answer != "yes" || r.Views[1].Answer != "yes" || !strings.HasPrefix(r.Views[1].Browser, "Firefox/") ||
		r.Views[1].Name != "frame in Firefox" || len(r.Views[0].Cannot) != 0 || len(r.Views[1].Cannot) == 0 {
		t.Errorf("%+v", r.Views)
	}
	run(t, folder, "trial", "--browser", "no-such-browser").must(t, 3, "--browser names no-such-browser, and there is no such browser")
}

// TestFirstScreenKept: a build that begins on another screen than the accepted one is told from one that only moves.
func TestFirstScreenKept(t *testing.T) {
	t.Parallel()
	partner(t, "chromium")
	folder := t.TempDir()
	lane := `const g = canvas.getContext("2d"), draw = lane(g); play((t) => { draw(t); g.fillStyle = "COLOUR"; g.fillRect(0, 260, 640, 100); });`
	writeInto(t, folder, picturePage(strings.Replace(lane, "COLOUR", "#630", 1)))
	run(t, folder, "trial", "--accept").must(t, 1, "") // Quill.ready is not called
	if e := run(t, folder, "trial"); strings.Contains(e.out, "trial-changed") {
		t.Errorf("the same build: %s", e.out)
	}
	writeInto(t, folder, picturePage(strings.Replace(lane, "COLOUR", "#0af", 1)))
	run(t, folder, "trial").must(t, 1, "trial-changed", "another than the one that was accepted")
}
