package tests

import (
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"

	"havvel/internal/demo/game"
)

// TestOwnPortal: a portal that somebody describes in a rulebook with one step is sent to, with a key that the rulebook says nothing
// more of; what it can't be asked is not waited for.
func TestOwnPortal(t *testing.T) {
	var told atomic.Value // what the portal got last
	told.Store("")
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		data, _ := io.ReadAll(r.Body)
		told.Store(fmt.Sprintf("%s %s %d", r.URL.Path, r.Header.Get("Authorization"), len(data)))
		w.WriteHeader(http.StatusCreated)
	}))
	defer s.Close()
	const rules = `format = "havvel-rulebook/2"
name = "Little Portal"
[archive]
hand_over = "zip"
[key]
where = "ask us"
[[view]]
name = "frame"
size = [320, 240]
[[send]]
step = "upload"
method = "POST"
address = "{address}/games/{game.short}"
headers = { Authorization = "Bearer {key}" }
file = "archive"
expect = [201]
`
	folder := write(t, game.Files{"little.toml": []byte(rules)})
	for name, data := range small() {
		writeInto(t, folder, game.Files{"web/" + name: data})
	}
	run(t, folder, "rules", "check", "little.toml").must(t, 0, "in one step", "no mistakes")
	run(t, folder, "start", "web", "--to", "little.toml").must(t, 2, "the rulebook names no address", "--address")
	run(t, folder, "start", "web", "--to", "little.toml", "--address", s.URL).must(t, 0)
	run(t, folder, "send").must(t, 3, "LITTLE_KEY", "havvel keys set little")
	run(t, folder, "send", "--dry-run", "--requests").must(t, 0, "upload  POST "+s.URL+"/games/lane", "Bearer (key)", "bytes of little-0.1.0.zip")
	run(t, folder, "send", "--requests").must(t, 2, "goes with --dry-run")
	run(t, folder, "rules", "new", "fresh.toml", "--hand-over", "entry-apart").must(t, 0, "wrote fresh.toml")
	run(t, folder, "rules", "check", "fresh.toml").must(t, 0, "no mistakes")
	run(t, folder, "rules", "new", "fresh.toml").must(t, 2, "there is a fresh.toml already")
	run(t, folder, "rules", "schema").must(t, 0, "json-schema.org/draft/2020-12")
	if told := told.Load(); told != "" {
		t.Fatalf("without a key it was told %q", told)
	}
	runWith(
		t,
		folder,
		[]string{"LITTLE_KEY=oil"},
		"send",
		"--wait",
	).must(t, 0, "sent 0.1.0 to Little Portal", "look at your page on Little Portal")
	if told := told.Load().(string); !strings.HasPrefix(told, "/games/lane Bearer oil ") || strings.HasSuffix(told, " 0") {
		t.Errorf("it was told %q", told)
	}
	run(t, folder, "publish", "--to-players", "10%").must(t, 1, "does not say how to show a version to a share of the players")
	run(t, folder, "publish", "--to-players", "half").must(t, 2, "write it like 10%")
	run(t, folder, "publish", "--at", "2020-01-01T10:00").must(t, 2, "no time to come")
	runWith(t, folder, []string{"LITTLE_KEY=oil"}, "where", "--wait").must(t, 0, "sent", "look at your page on Little Portal")
}

// TestAsked: on a terminal, start asks for what a rulebook wants of each destination, keys set for all secrets, and rules new for what a
// rulebook needs; flags answer, too.
func TestAsked(t *testing.T) {
	t.Parallel()
	terminal := func(folder, typed string, args ...string) string {
		t.Helper()
		c := exec.Command("script", "-qec", program+" "+strings.Join(args, " "), "/dev/null") // of util-linux, which every Debian has
		c.Dir, c.Stdin = folder, strings.NewReader(typed)
		c.Env = append(os.Environ(), "HAVVEL_KEYS="+filepath.Join(folder, "keys.json"), "NO_COLOR=1")
		out, err := c.CombinedOutput()
		if err != nil {
			t.Fatalf("%v: %v\n%s", args, err, out)
		}
		return string(out)
	}
	rules, err := os.ReadFile("../docs/formats/rulebooks/tracks.toml")
	if err != nil {
		t.Fatal(err)
	}
	folder := write(t, game.Files{"x.toml": rules})
	for name, data := range small() {
		writeInto(t, folder, game.Files{"web/" + name: data})
	}
	holds := func(file string, texts ...string) {
		t.Helper()
		data, err := os.ReadFile(filepath.Join(folder, file))
		for _, text := range texts {
			if err != nil || !strings.Contains(string(data), text) {
				t.Errorf("%s has no %q (%v)\n%s", file, text, err, data)
			}
		}
	}
	run(t, folder, "start", "web", "--to", "x.toml", "--value", "track=erly").must(t, 2, "steady, early")
	run(t, folder, "start", "web", "--to", "x.toml", "--value", "trak=early").must(t, 2, "game_id and track")
	run(t, folder, "start", "web", "--to", "x.toml", "--value", "game_id=7", "--value", "track=early", "--dry-run").must(t, 0, `track = "early"`)
	said := terminal(folder, "Tinderwick Lane\n8\nerly\nearly\nLight them.\n\n", "start", "web", "--to", "x.toml")
	if !strings.Contains(said, "erly is none of: steady, early") {
		t.Errorf("a wrong answer is not told: %s", said)
	}
	holds("havvel.toml", `title   = "Tinderwick Lane"`, `game_id = "8"`, `track = "early"`, `tagline     = "Light them."`)
	terminal(folder, "wick\noil\n", "keys", "set", "x")
	holds("keys.json", `"wick"`, `"oil"`)
	terminal(folder, "Brackwater\nhttps://api.brackwater.example\n\ndigest\nresumable\n", "rules", "new", "y.toml")
	holds("y.toml", `name    = "Brackwater"`, `"digest"`, "resumable = true")
	run(t, folder, "rules", "check", "y.toml").must(t, 0, "no mistakes")
	writeInto(t, folder, game.Files{"bare.json": []byte(`{"openapi": "3.1.0", "paths": {"/a": {"get": {}}}}`)})
	run(t, folder, "rules", "new", "z.toml", "--from", "bare.json").must(t, 1, "bare.json", "takes a file")
	run(t, folder, "rules", "new", "z.toml", "--from", "none.json").must(t, 2, "none.json")
}
