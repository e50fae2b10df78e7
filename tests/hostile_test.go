//go:build unix

package tests

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"havvel/internal/demo"
	"havvel/internal/demo/game"
)

// saver is a game that keeps something wherever it may.
const saver = `<!doctype html><html><head><title>Lane</title></head><body><canvas width="64" height="64"></canvas><script>
localStorage.setItem("secret", "wick");
document.cookie = "secret=wick; path=/";
document.cookie = "secret=wick; path=/; domain=" + location.hostname.split(".").slice(-1);
caches?.open("secret").then((c) => c.put("/secret", new Response("wick"))).catch(() => {}).finally(() => parent.postMessage("saved", "*"));
</script></body></html>`

// lurker is a game that tries to get at what is not its own, and sends what it got. KNOWN stands for what it could have learned elsewhere.
const lurker = `<!doctype html><html><head><title>Lane</title></head><body><canvas width="64" height="64"></canvas><script>
(async () => {
	const known = KNOWN, got = [];
	const tries = {
		"the owner's builds": async () => { await (await fetch(known.control + "/api/builds?game=tinderwick-lane", { credentials: "include" ` +
	`})).json(); },
		"the owner's figures": async () => { await (await fetch(known.control + "/metrics")).text(); },
		"another round's page": async () => { await (await fetch(known.other)).text(); },
		"a session in another round": async () => { const a = await (await fetch(known.other + "/sessions", { method: "POST", body: ` +
	`'{"device":{}}' })).json(); if (!a.session) throw 0; },
		"the page around it": async () => { if (!parent.document.body) throw 0; },
		"where the page is": async () => { if (!parent.location.href) throw 0; },
		"its referrer": async () => { if (!document.referrer.includes("/r/")) throw 0; },
		"another place for the window": async () => { top.location = "about:blank"; await new Promise((r) => setTimeout(r, 300)); throw 0; },
		"a window of its own": async () => { if (!open("about:blank")) throw 0; },
		"what is saved elsewhere": async () => { if (!localStorage.getItem("secret")) throw 0; },
		"a cookie from elsewhere": async () => { if (!document.cookie.includes("secret")) throw 0; },
		"a cache from elsewhere": async () => { if (!(await caches.match("/secret"))) throw 0; },
		"the interface on its own origin": async () => { const a = await fetch("/api/builds"); if (!a.ok) throw 0; },
	};
	for (const [what, attempt] of Object.entries(tries)) {
		try { await attempt(); got.push(what); } catch { /* as it should be */ }
	}
	// Blind writes, whose answers it could not read: the host must refuse them.
	for (const [method, at] of [["POST", known.other + "/sessions"], ["DELETE", known.other + "/sessions/" + known.session], ["POST", ` +
	`known.control + "/api/rounds"]])
		try { await fetch(at, { method, mode: method === "POST" ? "no-cors" : "cors", credentials: "include", body: '{"device":{}}' }); } ` +
	`catch { /* likewise */ }
	parent.postMessage({ havvel: 1, kind: "answer", data: { question: 0, answer: "forged" } }, "*");
	parent.postMessage({ havvel: 1, kind: "piece", data: 1, bytes: new ArrayBuffer(9) }, "*");
	dispatchEvent(new CustomEvent("game-event", { detail: { event: "statistic", name: "isolated", value: ` +
	`String(self.crossOriginIsolated) } }));
	dispatchEvent(new CustomEvent("game-event", { detail: { event: "statistic", name: "got", value: got.join(", ") || "nothing" } }));
})();
</script></body></html>`

// TestHostileGame: a game reaches nothing but its own round's events: not the owner's pages, nor another round, nor what another game
// saved. One with threads is isolated in its frame.
func TestHostileGame(t *testing.T) {
	t.Parallel()
	for _, name := range []string{"chromium", "firefox"} {
		t.Run(name, func(t *testing.T) { hostileGame(t, newPlayer(t, name)) })
	}
}

func hostileGame(t *testing.T, p *player) {
	data := filepath.Join(t.TempDir(), "shed")
	port := freePort(t)
	var n int
	fmt.Sscan(port, &n)
	control, _, _ := hosting(t, data, "--port", port, "--games-url", fmt.Sprintf("http://*.localhost:%d", n+1))
	hv, project := letIn(t, control, "--data", data)
	open := func() string { return roundLink.FindString(hv("round", "open", "--until", "1h").must(t, 0).out) }

	// The other round has a tester, whose game saved something.
	if err := os.RemoveAll(filepath.Join(project, demo.GoodExport)); err != nil {
		t.Fatal(err)
	}
	writeInto(t, project, game.Files{demo.GoodExport + "/index.html": []byte(saver)})
	hv("send", "--to", "shed", "--only", "build", "--accept-errors").must(t, 0)
	other := open()
	_, body := posting(other+"/sessions", map[string]any{"device": map[string]any{"width": 800}})
	session := strings.Split(string(body), `"`)[3]
	p.opens(other)
	p.until("the page is not there", `addEventListener("message", (e) => { if (e.data === "saved") document.title = "saved"; }), location.href`, has(other))
	p.presses("#alone")
	p.until("the game saved nothing", "document.title", has("saved"))

	known := fmt.Sprintf(`{ control: %q, other: %q, session: %q }`, control, other, session)
	writeInto(t, project, game.Files{
		demo.GoodExport + "/index.html":   []byte(strings.Replace(lurker, "KNOWN", known, 1)),
		demo.GoodExport + "/threads.wasm": []byte("\x00asm\x01\x00\x00\x00\x05\x04\x01\x03\x01\x02"),
	})
	edit(t, project, `version = "0.4.0"`, `version = "0.4.3"`)
	hv("send", "--to", "shed", "--only", "build", "--accept-errors").must(t, 0)
	mine := open()
	p.opens(mine)
	p.until("the page is not there", "location.href", has(mine))
	p.presses("#allow")
	var back string
	eventually(t, "nothing came of the game", func() (any, bool) {
		hv("round", "report", "--simulated", "--lines", "mine.jsonl").must(t, 0)
		back = snapshot(t, project)["/mine.jsonl"]
		return back, strings.Contains(back, `"name":"got"`)
	})
	if !strings.Contains(back, `"name":"got","value":"nothing"`) {
		t.Errorf("what the game reached:\n%s", back)
	}
	if !strings.Contains(back, `"name":"isolated","value":"true"`) {
		t.Errorf("a game with threads is not isolated:\n%s", back)
	}
	if strings.Contains(back, "forged") || strings.Contains(back, `"clip"`) {
		t.Errorf("what it forged was taken:\n%s", back)
	}
	if at := p.until("the window has no page", "location.href", has("http")); at != `"`+mine+`"` {
		t.Errorf("the window is at %s", at)
	}
	list := decode[struct{ Rounds []struct{ ID, Link string } }](t, hv("round", "list", "--json").must(t, 0)).Rounds
	for _, r := range list {
		if r.Link != other {
			continue
		}
		if got := decode[roundReport](t, hv("round", "report", r.ID, "--json").must(t, 0)); got.Testers != 1 {
			t.Errorf("the other round has %d testers", got.Testers)
		}
	}
	if len(list) != 2 {
		t.Errorf("%d rounds", len(list))
	}
}

// TestHostFullDisk: a host whose disk is full says so, goes on with what it has, and takes the rest when there is room again.
func TestHostFullDisk(t *testing.T) {
	small := t.TempDir()
	if os.Geteuid() != 0 || exec.Command("mount", "-t", "tmpfs", "-o", "size=14m", "tmpfs", small).Run() != nil {
		t.Skip("skipped: making a small disk takes root")
	}
	t.Cleanup(func() { exec.Command("umount", "-l", small).Run() })
	control, _, _ := hosting(t, small, "--port", "0")
	hv, project := letIn(t, control, "--data", small)
	hv("send", "--to", "shed", "--only", "build").must(t, 0)
	link := roundLink.FindString(hv("round", "open", "--until", "1h").must(t, 0).out)
	_, body := posting(link+"/sessions", map[string]any{"device": map[string]any{"width": 800}})
	session := strings.Split(string(body), `"`)[3]
	event := func(n int) int {
		status, _ := posting(
			link+"/sessions/"+session+"/events",
			map[string]any{"events": []sentEvent{{n, n, "event", map[string]any{"event": "play-begun"}}}},
		)
		return status
	}
	if s := event(1); s != 200 {
		t.Fatal(s)
	}
	fill := filepath.Join(small, "fill")
	if err := exec.Command("dd", "if=/dev/zero", "of="+fill, "bs=1k").Run(); err == nil {
		t.Fatal("the disk is not full")
	}
	full := 0
	for n := 2; n < 60; n++ {
		if status, _ := posting(link+"/sessions/"+session+"/events",
			map[string]any{"events": []sentEvent{{n, n, "answer", map[string]any{"answer": strings.Repeat("x", 3000)}}}}); status == 507 {
			full = n
			break
		}
	}
	if full == 0 {
		t.Error("events were taken that no disk holds")
	}
	edit(t, project, `version = "0.4.0"`, `version = "0.4.4"`)
	hv("send", "--to", "shed", "--only", "build", "--again").must(t, 1, "the host's disk is full")
	if status, page := get(t, link); status != 200 || !strings.Contains(page, "Tinderwick Lane") {
		t.Errorf("its pages: %d", status)
	}
	if err := os.Remove(fill); err != nil {
		t.Fatal(err)
	}
	if s := event(full); s != 200 {
		t.Errorf("with room again, an event: %d", s)
	}
	hv("send", "--to", "shed", "--only", "build", "--again").must(t, 0)
	hv("round", "report").must(t, 0, "1 tester agreed")
}
