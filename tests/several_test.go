package tests

import (
	"encoding/json"
	"net/http"
	"net/http/httptest"
	"net/http/httputil"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"havvel/internal/demo"
	"havvel/internal/demo/game"
)

// second adds another destination, at another stand-in, to a project.
func second(t *testing.T, project, address string) {
	t.Helper()
	toml := snapshot(t, project)["/havvel.toml"] + "\n[to.other]\nrulebook = \"brackwater\"\naddress = \"" + address + "\"\n"
	writeInto(t, project, game.Files{"havvel.toml": []byte(toml)})
}

// TestTwoDestinations: one that is gone does not hinder the other, and only what arrived is recorded.
func TestTwoDestinations(t *testing.T) {
	t.Parallel()
	_, project := portal(t, nil)
	other, _ := portal(t, nil)
	second(t, project, other.Address())
	run(t, project, "pack").must(t, 0, "brackwater-0.4.0.zip", "other-0.4.0.zip")
	other.Stop()
	run(t, project, "send").must(t, 4, "sent 0.4.0 to Brackwater", "nothing answers there")
	run(t, project, "where", "--dry-run").must(t, 0, "brackwater   0.4.0", "nothing sent")
	d := decode[deliveries](t, run(t, project, "where", "--dry-run", "--json").must(t, 0)).Deliveries
	if len(d) != 1 || d[0].Destination != "brackwater" {
		t.Errorf("%+v", d)
	}
	run(t, project, "publish", "--to", "other").must(t, 1, "nothing was sent to other")
	// The same command again goes on with the one that was gone.
	run(t, project, "send").must(t, 4, "Brackwater has version 0.4.0 of this export already", "nothing answers there")
	// What was sent to the one is not in the way of the other.
	run(t, project, "send", "--to", "brackwater").must(t, 1, "this very export was sent")
	run(t, project, "send", "--to", "other").must(t, 4, "nothing answers there")
	run(t, project, "where", "--wait", "--to", "brackwater").must(t, 0)
	run(t, project, "publish").must(t, 1, "version 0.4.0 is public on Brackwater", "nothing was sent to other")
	run(
		t,
		project,
		"back",
	).must(t, 1, "havvel: 0.4.0 is public on brackwater, and nothing was public before it", "havvel: nothing was sent to other yet")
}

// A gate lets requests that write through once two servers have got one.
type gate struct {
	mu     sync.Mutex
	passed map[string]bool
	open   chan struct{}
}

func newGate() *gate { return &gate{passed: map[string]bool{}, open: make(chan struct{})} }

func (g *gate) wait(server string) bool {
	g.mu.Lock()
	if !g.passed[server] {
		g.passed[server] = true
		if len(g.passed) == 2 {
			close(g.open)
		}
	}
	g.mu.Unlock()
	select {
	case <-g.open:
		return true
	case <-time.After(patience / 10):
		return false
	}
}

// TestAtOnce: of two portals each takes an upload, and each publishes, only while the other is asked to do the same.
func TestAtOnce(t *testing.T) {
	t.Parallel()
	var now atomic.Pointer[gate]
	now.Store(newGate())
	gated := func(address string) string {
		to, err := url.Parse(address)
		if err != nil {
			t.Fatal(err)
		}
		on := httputil.NewSingleHostReverseProxy(to)
		s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			if r.Method != http.MethodGet && !now.Load().wait(address) {
				http.Error(w, "nobody asked the other portal", http.StatusServiceUnavailable)
				return
			}
			on.ServeHTTP(w, r)
		}))
		t.Cleanup(s.Close)
		return s.URL
	}
	one, project := portal(t, nil)
	edit(t, project, one.Address(), gated(one.Address()))
	other, _ := portal(t, nil)
	second(t, project, gated(other.Address()))
	e := run(t, project, "send", "--wait").must(t, 0, "sent 0.4.0 to Brackwater")
	if n := strings.Count(e.out, "sent 0.4.0 to"); n != 2 {
		t.Errorf("%d were sent:\n%s", n, e.out)
	}
	now.Store(newGate())
	e = run(t, project, "publish").must(t, 0, "other: the game's short address can't be changed")
	if strings.LastIndex(e.out, "permanent: ") > strings.Index(e.out, "is public on") {
		t.Errorf("what is permanent is told when it is done:\n%s", e.out)
	}
	d := decode[deliveries](t, run(t, project, "where", "--json").must(t, 0)).Deliveries
	if len(d) != 2 || d[0].Destination != "brackwater" || d[0].State != "public" || d[1].State != "public" {
		t.Errorf("%+v", d)
	}
}

// TestAllOrNothing: when one destination would not take the build, it is sent to none.
func TestAllOrNothing(t *testing.T) {
	t.Parallel()
	_, project := portal(t, nil)
	rules := strings.Replace(run(t, project, "rules", "show", "brackwater", "--toml").must(t, 0).out, `"60 MB"`, `"100 KB"`, 1)
	toml := snapshot(t, project)["/havvel.toml"] + "\n[to.small]\nrulebook = \"small.toml\"\naddress = \"http://127.0.0.1:9\"\n"
	writeInto(t, project, game.Files{"small.toml": []byte(rules), "havvel.toml": []byte(toml)})
	run(t, project, "send").must(t, 1, "weight-file", "lane.pack")
	run(t, project, "where", "--dry-run", "--to", "brackwater").must(t, 0, "nothing sent")
}

// TestJSON: every command that promises one document prints one, with the keys that are fixed.
func TestJSON(t *testing.T) {
	t.Parallel()
	_, project := portal(t, nil)
	for _, c := range []struct {
		args []string
		list string // the key that holds the rows
		keys []string
	}{
		{[]string{"look"}, "files", []string{"path", "bytes", "kind", "sha256"}},
		{[]string{"check"}, "findings", []string{"id", "level", "file", "line", "message", "fix", "destination"}},
		{[]string{"pack"}, "archives", []string{"destination", "path", "bytes", "sha256", "entries"}},
		{[]string{"pack", "--dry-run"}, "archives", []string{"destination", "path", "entries", "steps"}},
		{[]string{"send", "--wait"}, "deliveries", []string{"destination", "version", "state", "link"}},
		{[]string{"publish"}, "deliveries", []string{"destination", "version", "state", "link"}},
		{[]string{"where"}, "deliveries", []string{"destination", "version", "state", "link"}},
		{[]string{"rules", "list"}, "rulebooks", []string{"rulebook", "name", "limit"}},
	} {
		doc := decode[map[string]json.RawMessage](t, run(t, project, append(slices.Clone(c.args), "--json")...).must(t, 0))
		var rows []map[string]any
		if err := json.Unmarshal(doc[c.list], &rows); err != nil || len(rows) == 0 {
			t.Errorf("%v: %s %v", c.args, doc[c.list], err)
			continue
		}
		for _, key := range c.keys {
			if _, ok := rows[0][key]; !ok {
				t.Errorf("%v has no %s in %s", c.args, key, c.list)
			}
		}
	}
	e := run(t, project, "send", "--json").must(t, 1)
	doc := decode[struct{ Failures []failure }](t, e)
	if len(doc.Failures) != 1 || doc.Failures[0].Kind != "no" || doc.Failures[0].Next == "" || !strings.Contains(e.err, "this very export") {
		t.Errorf("a refusal prints %q and says %q", e.out, e.err)
	}
}

// TestEntryOfProject: the project may settle which page is the entry page; pack then gives it its name.
func TestEntryOfProject(t *testing.T) {
	_, project := portal(t, nil)
	export := filepath.Join(project, "export", "web")
	if err := os.Rename(filepath.Join(export, "index.html"), filepath.Join(export, "play.html")); err != nil {
		t.Fatal(err)
	}
	writeInto(t, export, game.Files{"editor.html": append(demo.Good()["index.html"], "<canvas></canvas><script>more()</script>"...)})
	toml := strings.Replace(snapshot(t, project)["/havvel.toml"], "[game]\n", "[game]\nentry = \"play.html\"\n", 1)
	writeInto(t, project, game.Files{"havvel.toml": []byte(toml)})
	run(t, project, "look").must(t, 0, "entry page   play.html")
	run(t, project, "pack").must(t, 0, "play.html is called index.html")
	writeInto(t, project, game.Files{"havvel.toml": []byte(strings.Replace(toml, "play.html", "gone.html", 1))})
	run(t, project, "pack").must(t, 2, "no HTML page gone.html", "editor.html")
}
