//go:build unix

package tests

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"image"
	"image/color"
	"image/jpeg"
	"image/png"
	"io"
	"net/http"
	"net/http/httptest"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"golang.org/x/net/html"

	driver "havvel/internal/browser"
	"havvel/internal/demo/game"
)

// A page whose game keeps its saves by the page's address, as engines do, and loads files by names that it makes of it.
const savingPage = `<!DOCTYPE html><html lang="en"><head><meta charset="utf-8"><title>Tinderwick Lane</title>
<link rel="icon" href="lamp.png"></head><body><canvas id="c" width="64" height="64"></canvas>
<a id="again" href="?again">again</a><script src="game.js"></script></body></html>`

const savingScript = `
const here = location.href.replace(/[^/]*$/, "");
const open = () => new Promise((done) => { const r = indexedDB.open(location.pathname, 1);
	r.onupgradeneeded = () => r.result.createObjectStore("saves"); r.onsuccess = () => done(r.result); });
const slot = async (mode, act) => { const db = await open();
	return new Promise((done) => { const r = act(db.transaction("saves", mode).objectStore("saves")); r.onsuccess = () => { db.close(); done(r.result); }; }); };
window.saved = async () => ({ local: localStorage[location.pathname + "lamp"] || "", cookie: document.cookie,
	base: await slot("readonly", (s) => s.get("lamp")) || "", at: location.pathname + location.search + location.hash, night: window.night });
window.save = async (v) => { localStorage[location.pathname + "lamp"] = v; document.cookie = "lamp=" + v + "; max-age=9999";
	await slot("readwrite", (s) => s.put(v, "lamp")); history.pushState(null, "", "?level=" + v); };
window.host = () => fetch("/scores").then((r) => r.text());
fetch(new URL("night.json", here)).then((r) => r.json()).then((n) => { window.night = n.night; 
	const x = document.getElementById("c").getContext("2d"); x.fillStyle = "#fc8"; x.fillRect(8, 8, 48, 48); });
const lamp = new Image(); lamp.src = here + "lamp.png"; lamp.onload = () => { window.lit = true; };
`

// A player is a browser that stays open from version to version.
type player struct {
	t   *testing.T
	tab driver.Tab
}

func newPlayer(t *testing.T, name string) *player {
	b, err := driver.Start(t.Context(), partner(t, strings.Replace(name, "firefox", "firefox-esr", 1)))
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(b.Close)
	tab, err := b.Open(t.Context(), driver.Window{Width: 800, Height: 600}, func(driver.Event) {})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { tab.Close() })
	return &player{t, tab}
}

// until evaluates an expression until a condition on it holds, and returns its value.
func (p *player) until(what, expression string, holds func(text string) bool) string {
	p.t.Helper()
	ctx, stop := context.WithTimeout(p.t.Context(), 30*time.Second)
	defer stop()
	last := ""
	for ctx.Err() == nil {
		var v any
		if err := p.tab.Evaluate(ctx, "", expression, &v); err == nil {
			text, _ := json.Marshal(v)
			if last = string(text); holds(last) {
				return last
			}
		}
		time.Sleep(50 * time.Millisecond)
	}
	p.t.Fatalf("%s: it stays %s", what, last)
	return ""
}

func (p *player) opens(address string) {
	p.t.Helper()
	if err := p.tab.Go(p.t.Context(), address); err != nil {
		p.t.Fatal(err)
	}
}

// presses presses the button on what a selector finds, as soon as it is there.
func (p *player) presses(selector string) {
	p.t.Helper()
	at := p.until(selector+" is not there", fmt.Sprintf(`(() => { const b = document.querySelector(%q)?.getBoundingClientRect();
		return b && b.width > 0 ? [b.x + b.width / 2, b.y + b.height / 2] : null; })()`, selector), has(","))
	var xy [2]float64
	if err := json.Unmarshal([]byte(at), &xy); err != nil {
		p.t.Fatal(err)
	}
	for _, m := range []driver.Motion{driver.Move, driver.Down, driver.Up} {
		if err := p.tab.Mouse(p.t.Context(), driver.Mouse{Motion: m, X: xy[0], Y: xy[1]}); err != nil {
			p.t.Fatal(err)
		}
	}
}

func has(parts ...string) func(string) bool {
	return func(text string) bool {
		for _, p := range parts {
			if !strings.Contains(text, p) {
				return false
			}
		}
		return true
	}
}

// TestSaves: over ten versions and a way back, players keep saves that go by the page's address, cookies, the address itself and links to
// it; and pages that a cache kept play their whole version, and find the new one.
func TestSaves(t *testing.T) {
	for _, name := range []string{"chromium", "firefox"} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			root := t.TempDir()
			mux := http.NewServeMux()
			files := http.StripPrefix("/lane", http.FileServer(http.Dir(root)))
			var inside atomic.Bool // a game without an origin asked for its file where that is
			mux.HandleFunc("/lane/", func(w http.ResponseWriter, r *http.Request) {
				if r.Header.Get("Origin") == "null" && strings.Contains(r.URL.Path, "/versions/") && strings.HasSuffix(r.URL.Path, "/night.json") {
					inside.Store(true)
				}
				files.ServeHTTP(w, r)
			})
			mux.HandleFunc("/scores", func(w http.ResponseWriter, _ *http.Request) { w.Write([]byte("77 lanterns")) })
			mux.HandleFunc("/around", func(w http.ResponseWriter, _ *http.Request) { // another page, in which the game has no origin
				w.Header().Set("Content-Type", "text/html")
				w.Write([]byte(`<iframe sandbox="allow-scripts" src="/lane/?in"></iframe>`))
			})
			web := httptest.NewServer(mux)
			defer web.Close()
			p := siteProject(t, &machine{address: root}, web.URL+"/lane/", "")
			writeInto(t, p, game.Files{"web/index.html": []byte(savingPage), "web/game.js": []byte(savingScript),
				"web/lamp.png": plainPNG(8, 8), "web/night.json": []byte(`{"night":"0.4.0"}`)})
			run(t, p, "send", "--no-proof").must(t, 0)
			run(t, p, "publish").must(t, 0, "all as sent")
			ann := newPlayer(t, name)
			ann.opens(web.URL + "/lane/")
			ann.until("the first version", "window.saved && saved()", has(`"night":"0.4.0"`, `"at":"/lane/"`))
			ann.until("its picture", "window.lit", has("true"))
			ann.opens(web.URL + "/around")
			eventually(t, "in a sandbox, the game doesn't find its files", func() (any, bool) { return "", inside.Load() })
			ann.opens(web.URL + "/lane/")
			ann.until("the first version again", "window.saved && saved()", has(`"night":"0.4.0"`))
			ann.until("the host's own", "host()", has("77 lanterns"))
			ann.until("a save", `save("three").then(() => location.href)`, has("/lane/?level=three"))
			for n := 1; n <= 10; n++ {
				version := fmt.Sprintf("0.4.%d", n)
				raise(t, p, fmt.Sprintf("0.4.%d\"", n-1), version+"\"")
				writeInto(t, p, game.Files{"web/night.json": []byte(`{"night":"` + version + `"}`)})
				run(t, p, "send", "--no-proof").must(t, 0)
				run(t, p, "publish").must(t, 0, "all as sent")
				ann.opens(web.URL + "/lane/?from=ben" + fmt.Sprint(n) + "#night")
				ann.until(version, "window.saved && saved()", has(`"night":"`+version+`"`, `"local":"three"`, `"base":"three"`, "lamp=three",
					fmt.Sprintf(`"at":"/lane/?from=ben%d#night"`, n)))
			}
			run(t, p, "back").must(t, 0, "0.4.9 is public")
			ann.opens(web.URL + "/lane")
			ann.until("the way back", "window.saved && saved()", has(`"night":"0.4.9"`, `"local":"three"`, `"base":"three"`, "lamp=three",
				`"at":"/lane/"`))
			ann.until("a link of the page to itself", `document.getElementById("again").click(), location.href`, has("/lane/?again"))
			ann.until("after that", "window.saved && saved()", has(`"night":"0.4.9"`, `"at":"/lane/?again"`))
		})
	}
}

// TestPreview: those who show a preview of a site's link find title, text and picture without running a script.
func TestPreview(t *testing.T) {
	t.Parallel()
	root := t.TempDir()
	web := httptest.NewServer(http.FileServer(http.Dir(root)))
	defer web.Close()
	for _, worker := range []bool{false, true} {
		p := siteProject(t, &machine{address: root}, web.URL, "[listing]\ntagline = \"Light every lantern – “all” of them\"\n"+
			"[[picture]]\nfile = \"cover.png\"\nroles = [\"cover\"]\n")
		script := ""
		if worker {
			script = `navigator.serviceWorker.register("sw.js")`
		}
		writeInto(t, p, game.Files{"web/index.html": []byte(savingPage), "web/game.js": []byte(script), "web/sw.js": []byte("1"),
			"web/lamp.png": plainPNG(8, 8), "cover.png": plainPNG(1600, 900)})
		e := run(t, p, "send", "--no-proof").must(t, 0)
		if told := strings.Contains(e.out, "service worker"); told != worker {
			t.Errorf("send says:\n%s", e.out)
		}
		e = run(t, p, "publish", "--over").must(t, 0)
		if warned := strings.Contains(e.out, "isn't found there"); warned != worker {
			t.Errorf("publish says:\n%s", e.out)
		}
		tags := crawl(t, web.URL+"/")
		if tags["title"] == "" || tags["og:title"] != "Lane" || tags["og:url"] != web.URL+"/" ||
			tags["og:description"] != "Light every lantern – “all” of them" {
			t.Errorf("the page says %v", tags)
		}
		answer, err := http.Get(tags["og:image"])
		if err != nil {
			t.Fatal(err)
		}
		m, err := jpeg.DecodeConfig(answer.Body)
		answer.Body.Close()
		if err != nil || m.Width != 1200 || m.Height != 630 || answer.Header.Get("Content-Type") != "image/jpeg" {
			t.Errorf("the picture is %v, %v", m, err)
		}
	}
}

// TestFeedback: a link over the game leads to where players can say what they think; after the last day, the page says that it is over.
func TestFeedback(t *testing.T) {
	t.Parallel()
	root := t.TempDir()
	web := httptest.NewServer(http.FileServer(http.Dir(root)))
	defer web.Close()
	p := siteProject(t, &machine{address: root}, web.URL, "feedback = \"https://moor.example/say?a=1&b=2\"\nuntil = \"2099-12-31\"\n")
	writeInto(t, p, game.Files{"web/index.html": []byte(savingPage), "web/game.js": []byte(savingScript), "web/lamp.png": plainPNG(8, 8)})
	run(t, p, "send", "--no-proof").must(t, 0)
	run(t, p, "publish").must(t, 0)
	ann := newPlayer(t, "chromium")
	ann.opens(web.URL)
	ann.until("the game", "window.lit", has("true"))
	ann.until("the link", `[...document.body.children].at(-1).style.position`, has("fixed"))
	page := []byte(snapshot(t, root)["/index.html"])
	for _, sent := range []string{"https://moor.example/say?a=1\\u0026b=2", "https://moor.example/say?a=1&b=2"} {
		if bytes.Contains(page, []byte(sent)) {
			page = nil
			break
		}
	}
	if page != nil {
		t.Error("the page doesn't lead to the form")
	}
	yesterday := time.Now().AddDate(0, 0, -1)
	edit(t, p, "2099-12-31", yesterday.Format(time.DateOnly))
	run(t, p, "back", "--off").must(t, 0)
	run(t, p, "publish").must(t, 2, "players would see that it is over")
	edit(t, p, yesterday.Format(time.DateOnly), time.Now().Format(time.DateOnly))
	run(t, p, "publish").must(t, 0)
	ends := time.Date(time.Now().Year(), time.Now().Month(), time.Now().Day()+1, 0, 0, 0, 0, time.Local).UnixMilli()
	over := strings.Replace(snapshot(t, root)["/index.html"], fmt.Sprint(ends), fmt.Sprint(time.Now().UnixMilli()), 1) // it is midnight
	writeInto(t, root, game.Files{"index.html": []byte(over)})
	ann.opens(web.URL + "/?later")
	ann.until("the end", "document.body.innerText", has("This was open until "+time.Now().Format("2 January 2006")))
	ann.until("the game, which is gone", "!window.saved && !document.querySelector('canvas')", has("true"))
}

// crawl reads a page as those do who show a preview of it: its title and meta elements, without running a script.
func crawl(t *testing.T, address string) map[string]string {
	answer, err := http.Get(address)
	if err != nil {
		t.Fatal(err)
	}
	defer answer.Body.Close()
	tree, err := html.Parse(answer.Body)
	if err != nil {
		t.Fatal(err)
	}
	tags := map[string]string{}
	for n := range tree.Descendants() {
		switch n.Data {
		case "title":
			if n.FirstChild != nil {
				tags["title"] = n.FirstChild.Data
			}
		case "meta":
			name, content := "", ""
			for _, a := range n.Attr {
				switch a.Key {
				case "name", "property":
					name = a.Val
				case "content":
					content = a.Val
				}
			}
			tags[name] = content
		}
	}
	return tags
}

func plainPNG(width, height int) []byte {
	m := image.NewNRGBA(image.Rect(0, 0, width, height))
	for i := range m.Pix {
		m.Pix[i] = uint8(i*7) | 1
	}
	m.Set(0, 0, color.NRGBA{255, 200, 120, 255})
	var b bytes.Buffer
	if err := png.Encode(&b, m); err != nil {
		panic(err) // into memory
	}
	return b.Bytes()
}

// TestKeptPage: a page that the browser keeps for an hour plays its whole version, finds the new one by itself, and doesn't go round in
// circles where a cache on the way keeps the old one, too.
func TestKeptPage(t *testing.T) {
	for _, name := range []string{"chromium", "firefox"} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			root := t.TempDir()
			var asked atomic.Int32
			files := http.FileServer(http.Dir(root))
			web := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
				if r.URL.Path == "/" {
					asked.Add(1)
				}
				w.Header().Set("Cache-Control", "max-age=3600")
				files.ServeHTTP(w, r)
			}))
			defer web.Close()
			p := siteProject(t, &machine{address: root}, web.URL, "")
			writeInto(t, p, game.Files{"web/index.html": []byte(savingPage), "web/game.js": []byte(savingScript),
				"web/lamp.png": plainPNG(8, 8), "web/night.json": []byte(`{"night":"0.4.0"}`)})
			run(t, p, "send", "--no-proof").must(t, 0)
			run(t, p, "publish").must(t, 1, "may be kept by caches for 3600 seconds")
			ann := newPlayer(t, name)
			ann.opens(web.URL + "/")
			ann.until("the first version", "window.saved && saved()", has(`"night":"0.4.0"`))
			raise(t, p, "0.4.0\"", "0.4.1\"")
			writeInto(t, p, game.Files{"web/night.json": []byte(`{"night":"0.4.1"}`)})
			run(t, p, "send", "--no-proof").must(t, 0)
			run(t, p, "publish").must(t, 1)
			ann.opens("about:blank")
			ann.until("nothing", "location.href", has("about:blank"))
			ann.opens(web.URL + "/")
			ann.until("the new version", "window.saved && saved()", has(`"night":"0.4.1"`))

			before := snapshot(t, root)["/index.html"] // from now on a cache on the way has the old page, and the index is new
			raise(t, p, "0.4.1\"", "0.4.2\"")
			run(t, p, "send", "--no-proof").must(t, 0)
			run(t, p, "publish").must(t, 1)
			writeInto(t, root, game.Files{"index.html": []byte(before)})
			asked.Store(0)
			ann.opens(web.URL + "/?again")
			ann.until("the old version, whole", "window.saved && saved()", has(`"night":"0.4.1"`))
			ann.until("a second look", "performance.getEntriesByType('navigation')[0].type", has("reload"))
			ann.until("the game after it", "window.lit", has("true"))
			if n := asked.Load(); n > 3 {
				t.Errorf("the page was asked for %d times", n)
			}
		})
	}
}

// TestRealCache: with a caching proxy before the host, publish says until when players get the version before, and it is true.
func TestRealCache(t *testing.T) {
	t.Parallel()
	program := partner(t, "varnishd")
	root := t.TempDir()
	files := http.FileServer(http.Dir(root))
	web := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Cache-Control", "max-age=30")
		r.Header.Del("If-Modified-Since") // two publishes within a second, for which that is too coarse
		files.ServeHTTP(w, r)
	}))
	defer web.Close()
	h := &machine{address: root, port: freePort(t)}
	h.serving(t, nil, program, "-F", "-n", filepath.Join(t.TempDir(), "v"), "-a", "127.0.0.1:"+h.port, "-b", strings.TrimPrefix(web.URL, "http://"))
	public := "http://127.0.0.1:" + h.port + "/"
	p := siteProject(t, h, public, "")
	run(t, p, "send", "--no-proof").must(t, 0)
	run(t, p, "publish").must(t, 0, "all as sent")
	raise(t, p, "0.4.0", "0.4.1")
	run(t, p, "send", "--no-proof").must(t, 0)
	e := run(t, p, "publish").must(t, 1, "0.4.1 is public", "index.html: a cache on the way still leads players to 0.4.0-", ", until ")
	_, text, _ := strings.Cut(e.out, ", until ")
	now := time.Now()
	said, err := time.ParseInLocation("2006-01-02 15:04:05", now.Format("2006-01-02 ")+text[:8], time.Local)
	if err != nil || said.Before(now) || said.After(now.Add(31*time.Second)) {
		t.Fatalf("it says until %q (%v)", text[:8], err)
	}
	page := func() string { // as a player gets it, through the cache
		answer, err := http.Get(public)
		if err != nil {
			t.Fatal(err)
		}
		defer answer.Body.Close()
		data, _ := io.ReadAll(answer.Body)
		return string(data)
	}
	if !strings.Contains(page(), `content="0.4.0-`) {
		t.Error("the cache has the new page already")
	}
	eventually(t, "players still get the version before", func() (any, bool) { return time.Now(), strings.Contains(page(), `content="0.4.1-`) })
	if late := time.Since(said); late > 3*time.Second {
		t.Errorf("players got the new version %v later than was said", late)
	}
}
