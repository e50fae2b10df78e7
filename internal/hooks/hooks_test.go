package hooks

import (
	"context"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"havvel/internal/export"
	"havvel/internal/export/web"
	"havvel/internal/rulebook"
)

// TestPlant: the script comes where the rulebook says, before the game's own, and only once.
func TestPlant(t *testing.T) {
	page := `<html><head><meta charset="utf-8"></head><body><script src="game.js"></script></body></html>`
	for place, before := range map[string]string{"head-start": "<meta", "head-end": "</head>", "body-end": "</body>"} {
		h := rulebook.Hook{Name: "the <SDK>", Script: `/sdk/a.js?x=1&y="2"`, Place: place}
		read := web.ReadPage([]byte(page))
		if Present(read, h) {
			t.Fatal("present before it was planted")
		}
		planted := string(Plant([]byte(page), read, h))
		at := strings.Index(planted, "<script src=\"/sdk/a.js?x=1&amp;y=&#34;2&#34;\"></script>")
		if at < 0 || at > strings.Index(planted, before) || at < strings.Index(planted, before)-150 {
			t.Errorf("%s: %s", place, planted)
		}
		if !Present(web.ReadPage([]byte(planted)), h) {
			t.Errorf("%s: not found after it was planted: %s", place, planted)
		}
	}
}

// build reads an export of one page and one script.
func build(t *testing.T, page, script string) *export.Build {
	t.Helper()
	folder := t.TempDir()
	for name, data := range map[string]string{"index.html": page, "game.js": script} {
		if err := os.WriteFile(filepath.Join(folder, name), []byte(data), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	b, err := export.Read(context.Background(), folder)
	if err != nil {
		t.Fatal(err)
	}
	return b
}

const bare = `<html><head></head><body><canvas></canvas><script src="game.js"></script></body></html>`

// TestSentFrom: an event is sent where a script names it, and the event, too; an adapter sends nothing.
func TestSentFrom(t *testing.T) {
	h := rulebook.Hook{
		Name:   "SDK",
		Script: "/sdk.js",
		Place:  "head-start",
		Plant:  true,
		Calls:  []rulebook.Call{{Call: "Portal.ready", Event: "loading-done"}},
	}
	planted := Plant([]byte(bare), web.ReadPage([]byte(bare)), h)
	planted = Adapt(planted, web.ReadPage(planted), h, nil)
	if sdk, adapter, game := strings.Index(string(planted), "/sdk.js"), strings.Index(string(planted), adapterMark),
		strings.Index(string(planted), "game.js"); !(sdk >= 0 && sdk < adapter && adapter < game) {
		t.Errorf("script, adapter and game stand in another order: %s", planted)
	}
	for name, c := range map[string]struct {
		page, script string
		sent         bool
		adapted      bool
	}{
		"sent": {bare, `dispatchEvent(new CustomEvent("game-event", { detail: { event: "loading-done" } }))`, true, false},
		"by a function": {bare,
			`const say = (m) => dispatchEvent(new CustomEvent("game-event", { detail: { event: m } })); say("loading-done")`, true, false},
		"another event":      {bare, `dispatchEvent(new CustomEvent("game-event", { detail: { event: "save" } }))`, false, false},
		"the word, no event": {bare, `log("loading-done")`, false, false},
		"in the page": {strings.Replace(bare, "<canvas>",
			`<script>dispatchEvent(new CustomEvent("game-event", {detail:{event:"loading-done"}}))</script><canvas>`, 1), "1", true, false},
		"only an adapter": {string(planted), `1`, false, true},
		"an adapter and a game": {string(planted), `dispatchEvent(new CustomEvent("game-event", { detail: { event: "loading-done" } }))`, true,
			true},
	} {
		b := build(t, c.page, c.script)
		f, at, ok := SentFrom(b, "loading-done")
		if ok != c.sent || Sends(b, "loading-done") != c.sent || Adapted(b) != c.adapted {
			t.Errorf("%s: sent %v, adapted %v", name, ok, Adapted(b))
		}
		if ok && f.Path == "game.js" && !strings.HasPrefix(c.script[at:], "loading-done") {
			t.Errorf("%s: the place is %q", name, c.script[at:])
		}
	}
	b := build(t, bare, "\n\nwindow.Portal.ready();")
	if f, at, ok := Makes(b, "Portal.ready"); !ok || f.Path != "game.js" || at < 2 {
		t.Errorf("%v %d %v", f, at, ok)
	}
	if f, _, _ := Makes(b, "Portal.score"); f != nil {
		t.Error("a call that nobody makes was found")
	}
	b = build(t, bare, "Portal.score(1);\nstart(window.Portal)")
	if f, at, sure := Makes(b, "Portal.ready"); sure || f == nil || f.Path != "game.js" || at < 17 {
		t.Errorf("handed on: %v %d %v", f, at, sure)
	}
}

// TestAttributes: more attributes of a script are planted with it, and nothing that they hold ends the element.
func TestAttributes(t *testing.T) {
	h := rulebook.Hook{
		Name:       "SDK",
		Script:     "/sdk.js",
		Place:      "head-end",
		Attributes: map[string]string{"crossorigin": "anonymous", "data-game": `"><script>`},
	}
	planted := string(Plant([]byte(bare), web.ReadPage([]byte(bare)), h))
	if !strings.Contains(planted, `<script src="/sdk.js" crossorigin="anonymous" data-game="&#34;&gt;&lt;script&gt;"></script>`) {
		t.Error(planted)
	}
}

// TestDescribed: what a rulebook says goes into the adapter whole, and can't end its script.
func TestDescribed(t *testing.T) {
	h := rulebook.Hook{
		Start: &rulebook.Start{Call: "Portal.begin", Arguments: []any{"{game.short}", int64(3), "</script>"}, Gives: true},
		Calls: []rulebook.Call{
			{Call: "started.score", Event: "statistic", Arguments: []any{"{name}", "{value}"}, Answers: "promise", Take: "kept"},
		},
	}
	text := string(described(h, map[string]string{"game.short": "lane"}))
	if strings.Contains(text, "</script>") {
		t.Errorf("it would end the script: %s", text)
	}
	for _, has := range []string{`"lane",3,`, `"call":"started.score"`, `["{name}","{value}"]`, `"answers":true`, `"take":"kept"`,
		`"gives":true`} {
		if !strings.Contains(text, has) {
			t.Errorf("it lacks %s: %s", has, text)
		}
	}
}

// TestInferSize: what finds events out takes no more than 2 KB of a page, beside the names that it is given.
func TestInferSize(t *testing.T) {
	if n := len(short(inferring)); n > 2048 {
		t.Errorf("it has %d bytes", n)
	}
}
