package tests

import (
	"bufio"
	"context"
	"fmt"
	"io"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"

	"havvel/internal/demo/game"
	"havvel/internal/export/web"
	"havvel/internal/hooks"
	"havvel/internal/rulebook"
)

// adapted is a page that sends events, with an adapter for a portal whose script is this.
func adapted(t *testing.T, h rulebook.Hook, script, play string) game.Files {
	t.Helper()
	page := []byte(`<html><head></head><body><script>` + play + `</script></body></html>`)
	page = hooks.Plant(page, web.ReadPage(page), h)
	before := len(page)
	page = hooks.Adapt(page, web.ReadPage(page), h, map[string]string{"game.short": "lane"})
	if size := len(page) - before; size > 3000 {
		t.Errorf("the adapter has %d bytes", size)
	}
	if twice := hooks.Adapt(page, web.ReadPage(page), h, nil); len(twice) != len(page) {
		t.Error("the adapter is planted twice")
	}
	files := game.Files{"index.html": page}
	if script != "" {
		files["portal.js"] = []byte(script)
	}
	return files
}

// TestAdapter runs the adapter in a real browser: events become the portal's calls, its answers become events, and whatever
// the portal's script does, the game goes on.
func TestAdapter(t *testing.T) {
	t.Parallel()
	h := rulebook.Hook{
		Name: "Portal", Script: "portal.js", Place: "head-start", Plant: true,
		Start: &rulebook.Start{Call: "Portal.begin", Arguments: []any{"{game.short}", 7}, Gives: true},
		Calls: []rulebook.Call{
			{Call: "started.score", Event: "statistic", Arguments: []any{"{name}", "{value}"}},
			{Call: "started.pause", Event: "break-wanted", Answers: "promise", Take: "shown"},
			{Call: "started.kept", Event: "load", Answers: "at-once"},
			{Call: "Portal.over", Event: "level-ended", Arguments: []any{"{level}"}},
		},
	}
	play := `window.said = []; window.answers = [];
		addEventListener("game-answer", (e) => answers.push(e.detail.event + "=" + e.detail.value));
		const say = (event, more) => dispatchEvent(new CustomEvent("game-event", { cancelable: true, detail: { event, ...more } }));
		window.waits = [!say("break-wanted"), !say("statistic", { name: "lanterns", value: 3 }), !say("load"), !say("level-begun"), ` +
		`!say("level-ended", { level: 2 })];`
	whole := `window.Portal = { over: (n) => said.push("over " + n), begin: (short, n) => new Promise((yes) => setTimeout(() => { ` +
		`said.push("begin " + short + n); yes({
		score: (name, value) => said.push(name + ":" + value), kept: () => "data", pause: () => Promise.resolve({ shown: true }) }); }, 100)) };`
	ctx, _ := browser(t, 320, 240)
	for name, c := range map[string]struct{ script, said, answers, waits string }{
		"a portal":           {whole, "begin lane7,lanterns:3,over 2", "load=data,break-wanted=true", "true,false,true,false,false"},
		"no script":          {"", "", "load=undefined,break-wanted=undefined", "true,false,true,false,false"},
		"a script that dies": {"throw new Error('out of order')", "", "load=undefined,break-wanted=undefined", "true,false,true,false,false"},
		"calls that throw": {`window.Portal = { begin: () => ({ score() { throw 1; }, pause: () => Promise.reject(2), kept() { throw 3; } ` +
			`}), over: 4 };`, "", "load=undefined,break-wanted=undefined", "true,false,true,false,false"},
	} {
		do(t, ctx, chromedp.Navigate(serve(t, adapted(t, h, c.script, play))+"/"))
		eventually(t, name, func() (any, bool) {
			got, _ := chromedp.Run(ctx, chromedp.Evaluate[[]string](`[said.join(), answers.sort().reverse().join(), waits.join()]`))
			return got, fmt.Sprint(got) == fmt.Sprint([]string{c.said, c.answers, c.waits})
		})
	}
}

// playing runs havvel play in a project. wait returns the next line that has some words; end presses Ctrl-C.
func playing(t *testing.T, project string, args ...string) (wait func(says string) string, end func()) {
	t.Helper()
	ctx, stop := context.WithTimeout(context.Background(), patience)
	t.Cleanup(stop)
	c := exec.CommandContext(ctx, program, append([]string{"play"}, args...)...)
	c.Dir = project
	out, err := c.StdoutPipe()
	if err != nil {
		t.Fatal(err)
	}
	if err := c.Start(); err != nil {
		t.Fatal(err)
	}
	lines := make(chan string, 100)
	go func() {
		for s := bufio.NewScanner(out); s.Scan(); {
			lines <- s.Text()
		}
		close(lines)
	}()
	wait = func(says string) string {
		t.Helper()
		for {
			select {
			case line, ok := <-lines:
				if !ok {
					t.Fatalf("it ended without saying %q", says)
				}
				if strings.Contains(line, says) {
					return line
				}
			case <-time.After(patience):
				t.Fatalf("it does not say %q", says)
			}
		}
	}
	return wait, func() {
		c.Process.Signal(os.Interrupt)
		if err := c.Wait(); err != nil {
			t.Errorf("Ctrl-C: %v", err)
		}
	}
}

// TestPlay serves the game as a portal, plays it in a real browser, and exports it again meanwhile.
func TestPlay(t *testing.T) {
	t.Parallel()
	_, project := portal(t, nil)
	script := filepath.Join(project, "export", "web", "loader.js")
	before := time.Now().Add(-time.Minute) // what was written within two seconds is not taken for changed
	if err := os.Chtimes(script, before, before); err != nil {
		t.Fatal(err)
	}
	wait, end := playing(t, project, "--as", "brackwater")
	first := wait("as on Brackwater: ")
	address := first[strings.Index(first, "http://"):]
	window, _ := browser(t, 1000, 700)
	do(t, window, chromedp.Navigate(address))
	wait("event loading-begun")
	wait("Brackwater.ready()")
	page, err := http.Get(address)
	if err != nil {
		t.Fatal(err)
	}
	defer page.Body.Close()
	if data, _ := io.ReadAll(page.Body); !strings.Contains(string(data), `data-w="960" data-h="540"`) ||
		!strings.Contains(string(data), "phone portrait") {
		t.Errorf("the page lacks the portal's views: %s", data)
	}
	data, err := os.ReadFile(script)
	if err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(script, append(data, `console.error("the lantern is out");`...), 0o644); err != nil {
		t.Fatal(err)
	}
	wait("the export changed")
	wait("the lantern is out")
	end()
	run(t, project, "play", "--as", "brakwater").must(t, 2, "brackwater")
	run(t, project, "play", "--slow", "much").must(t, 2, "500KB")
	run(t, project, "play", "none").must(t, 2, "there is nothing there")
}

// TestPlayOwnScripts: a portal's script is the stand-in however the game loads it, in a page of a folder, too.
func TestPlayOwnScripts(t *testing.T) {
	t.Parallel()
	const sdk = "https://play.osierfold.example/osierfold.js"
	for name, loads := range map[string]string{
		"a tag with a query": `<script src="` + sdk + `?v=2"></script><script>go()</script>`,
		"made by a script": `<script>const s = document.createElement("script"); s.src = "` + sdk + `?v=" + Date.now(); s.onload = go; ` +
			`document.head.append(s)</script>`,
		"set as an attribute": `<script>const s = document.createElement("script"); s.setAttribute("src", "` + sdk + `"); s.onload = go; ` +
			`document.head.append(s)</script>`,
		"imported": `<script type="module">await import("` + sdk + `"); go()</script>`,
	} {
		t.Run(name, func(t *testing.T) {
			window, _ := browser(t, 1000, 700)
			project := t.TempDir()
			writeInto(t, project, game.Files{
				"havvel.toml":    []byte("[game]\ntitle = \"Tinderwick Lane\"\nshort = \"lane\"\nversion = \"1\"\nexport = \"web\"\n[to.osierfold]\nrulebook = \"osierfold\"\n"),
				"web/index.html": []byte(`<!doctype html><title>Lane</title><script>location.href = "night/one.html"</script>`),
				"web/night/one.html": []byte(`<!doctype html><title>Night</title><script>const go = () => Osierfold.enter("lane").then(() => ` +
					`console.error("the portal answers"))</script>` + loads),
			})
			wait, end := playing(t, project, "--as", "osierfold")
			first := wait("as on Osierfold: ")
			do(t, window, chromedp.Navigate(first[strings.Index(first, "http://"):]))
			wait("Osierfold.enter(")
			wait("the portal answers")
			end()
		})
	}
}
