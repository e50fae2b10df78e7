package serve

import (
	"archive/zip"
	"bytes"
	"compress/gzip"
	"context"
	"crypto/tls"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"havvel/internal/export"
	"havvel/internal/rulebook"
)

func gzipped(data []byte) []byte {
	var b bytes.Buffer
	w := gzip.NewWriter(&b)
	w.Write(data) // a buffer takes everything
	w.Close()
	return b.Bytes()
}

var large = bytes.Repeat([]byte("the lane is dark and long\n"), 100_000)

func files() map[string][]byte {
	return map[string][]byte{
		"index.html":  []byte(`<html><head></head><body><script src="/sdk.js"></script><script src="game.js"></script></body></html>`),
		"game.js":     []byte("1"),
		"rules.wasm":  []byte("\x00asm\x01\x00\x00\x00"),
		"lane.pack":   large,
		"a.wasm.gz":   gzipped([]byte("\x00asm\x01\x00\x00\x00")),
		"b/night.ogg": []byte("OggS"),
	}
}

// sources are the same build in a folder and in a zip.
func sources(t *testing.T) map[string]*export.Build {
	t.Helper()
	folder, archive := t.TempDir(), filepath.Join(t.TempDir(), "a.zip")
	var packed bytes.Buffer
	z := zip.NewWriter(&packed)
	for name, data := range files() {
		path := filepath.Join(folder, filepath.FromSlash(name))
		os.MkdirAll(filepath.Dir(path), 0o755)
		if err := os.WriteFile(path, data, 0o644); err != nil {
			t.Fatal(err)
		}
		w, err := z.Create("web/" + name)
		if err != nil {
			t.Fatal(err)
		}
		w.Write(data)
	}
	z.Close()
	if err := os.WriteFile(archive, packed.Bytes(), 0o644); err != nil {
		t.Fatal(err)
	}
	builds := map[string]*export.Build{}
	for kind, path := range map[string]string{"folder": folder, "zip": archive} {
		b, err := export.Read(context.Background(), path)
		if err != nil {
			t.Fatal(err)
		}
		t.Cleanup(func() { b.Close() })
		builds[kind] = b
	}
	return builds
}

var arcade = &rulebook.Rulebook{
	Name: "Arcade", Serves: rulebook.Serves{Encodings: []string{"gzip"}},
	Hooks: []rulebook.Hook{{Name: "SDK", Script: "/sdk.js", Calls: []rulebook.Call{{Call: "Arcade.score", Event: "statistic"}}}},
}

// TestServe asks for files as a browser does, from a folder and straight from a zip.
func TestServe(t *testing.T) {
	for kind, b := range sources(t) {
		for _, c := range []struct {
			what   string
			rules  *rulebook.Rulebook
			path   string
			head   map[string]string
			status int
			body   string            // its beginning
			want   map[string]string // headers
		}{
			{"the entry page", nil, "/", nil, 200, "<html>", map[string]string{"Content-Type": "text/html; charset=utf-8"}},
			{"webassembly", nil, "/rules.wasm", nil, 200, "\x00asm", map[string]string{"Content-Type": "application/wasm", "Content-Length": "8"}},
			{"in a folder", nil, "/b/night.ogg", nil, 200, "OggS", map[string]string{"Content-Type": "audio/ogg"}},
			{"a part", nil, "/lane.pack", map[string]string{"Range": "bytes=26-29"}, 206, "the ",
				map[string]string{"Content-Range": fmt.Sprintf("bytes 26-29/%d", len(large))}},
			{"the end", nil, "/lane.pack", map[string]string{"Range": "bytes=-5"}, 206, "long\n", nil},
			{"past the end", nil, "/lane.pack", map[string]string{"Range": "bytes=99999999-"}, 416, "", nil},
			{"compressed, served", arcade, "/a.wasm.gz", nil, 200, "\x1f\x8b",
				map[string]string{"Content-Encoding": "gzip", "Content-Type": "application/wasm"}},
			{"compressed, not served", &rulebook.Rulebook{}, "/a.wasm.gz", nil, 200, "\x1f\x8b",
				map[string]string{"Content-Encoding": "", "Content-Type": "application/octet-stream"}},
			{"missing", nil, "/none.js", nil, 404, "", nil},
			{"out of it", nil, "/../../etc/passwd", nil, 404, "", nil},
			{"a stand-in's script", arcade, "/~havvel/hook-0.js", nil, 200, "(function", map[string]string{"Content-Type": "text/javascript; " +
				"charset=utf-8"}},
			{"no such stand-in", arcade, "/~havvel/hook-7.js", nil, 404, "", nil},
			{"the page names it", arcade, "/index.html", nil, 200, `<html><head></head><body><script src="/~havvel/hook-0.js">`, nil},
		} {
			g := newGame(b, Options{Rules: c.rules})
			r := httptest.NewRequest("GET", "http://game.example/", nil)
			r.URL.Path = c.path
			for k, v := range c.head {
				r.Header.Set(k, v)
			}
			w := httptest.NewRecorder()
			g.ServeHTTP(w, r)
			if w.Code != c.status || !strings.HasPrefix(w.Body.String(), c.body) && w.Code < 400 {
				t.Errorf("%s, %s: %d %.60q", kind, c.what, w.Code, w.Body.String())
			}
			for k, v := range c.want {
				if w.Header().Get(k) != v {
					t.Errorf("%s, %s: %s is %q, not %q", kind, c.what, k, w.Header().Get(k), v)
				}
			}
			if tag := w.Header().Get("ETag"); tag != "" && c.status == 200 {
				r.Header.Set("If-None-Match", tag)
				again := httptest.NewRecorder()
				g.ServeHTTP(again, r)
				if again.Code != http.StatusNotModified {
					t.Errorf("%s, %s: asked again: %d", kind, c.what, again.Code)
				}
			}
			g.Close()
		}
		g := newGame(b, Options{Isolation: true})
		w := httptest.NewRecorder()
		g.ServeHTTP(w, httptest.NewRequest("POST", "/game.js", nil))
		if w.Code != http.StatusMethodNotAllowed || w.Header().Get("Cross-Origin-Embedder-Policy") != "require-corp" {
			t.Errorf("%s: %d %v", kind, w.Code, w.Header())
		}
	}
	if left, _ := filepath.Glob(filepath.Join(os.TempDir(), "havvel-serve-*")); len(left) > 3 {
		t.Errorf("%d files were left behind", len(left))
	}
}

// TestManyVisitors: many requests at once, of which some leave in the middle, get what they ask for.
func TestManyVisitors(t *testing.T) {
	b := sources(t)["zip"]
	var mu sync.Mutex
	said := 0
	s, err := Start(Config{Build: b, Title: "Lane", Rules: arcade, Heard: func(Event) { mu.Lock(); said++; mu.Unlock() }})
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	var all sync.WaitGroup
	for i := range 60 {
		all.Go(func() {
			if i%3 == 0 { // one that leaves early
				c, err := net.Dial("tcp", strings.TrimSuffix(strings.TrimPrefix(s.Game, "http://"), "/"))
				if err == nil {
					fmt.Fprint(c, "GET /lane.pack HTTP/1.1\r\nHost: x\r\n\r\n")
					c.Read(make([]byte, 100))
					c.Close()
				}
				return
			}
			r, err := http.Get(s.Game + "lane.pack")
			if err != nil {
				t.Error(err)
				return
			}
			defer r.Body.Close()
			if data, err := io.ReadAll(r.Body); err != nil || !bytes.Equal(data, large) {
				t.Errorf("%d bytes, %v", len(data), err)
			}
		})
	}
	all.Wait()
	for _, body := range []string{`[{"kind":"call","name":"Arcade.score","arguments":["lanterns",3]}]`, `{`, strings.Repeat("x", 2*mostSaid)} {
		r, err := http.Post(s.Game+"~havvel/heard", "application/json", strings.NewReader(body))
		if err != nil {
			t.Fatal(err)
		}
		r.Body.Close()
	}
	mu.Lock()
	defer mu.Unlock()
	if said != 1 {
		t.Errorf("%d events were heard, not 1", said)
	}
}

// TestReplace: a page that is open is told of another build, and gets its files.
func TestReplace(t *testing.T) {
	builds := sources(t)
	s, err := Start(Config{Build: builds["folder"], Title: "Lane"})
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	r, err := http.Get(s.Page + "news")
	if err != nil {
		t.Fatal(err)
	}
	defer r.Body.Close()
	s.Replace(builds["zip"])
	line := make([]byte, len("event: changed"))
	if _, err := io.ReadFull(r.Body, line); err != nil || string(line) != "event: changed" {
		t.Errorf("%q %v", line, err)
	}
	page, err := http.Get(s.Page)
	if err != nil {
		t.Fatal(err)
	}
	defer page.Body.Close()
	if data, _ := io.ReadAll(page.Body); !strings.Contains(string(data), s.Game) || !strings.Contains(string(data), "phone portrait") {
		t.Errorf("the page around the game: %s", data)
	}
}

// TestLAN: what others on the network may see is under a path that can't be guessed.
func TestLAN(t *testing.T) {
	s, err := Start(Config{Build: sources(t)["folder"], Title: "Lane", LAN: true})
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	// The certificate is made on the spot, so nobody can know it before.
	visitor := &http.Client{Transport: &http.Transport{TLSClientConfig: &tls.Config{InsecureSkipVerify: true}}}
	page, err := visitor.Get(strings.Replace(s.Page, ownAddress(), "127.0.0.1", 1))
	if err != nil {
		t.Fatal(err)
	}
	defer page.Body.Close()
	if data, _ := io.ReadAll(page.Body); !strings.Contains(string(data), "<svg viewBox") {
		t.Errorf("the page has no code for phones: %s", data)
	}
	port := s.Game[strings.LastIndex(s.Game[:len(s.Game)-20], ":")+1 : strings.LastIndex(s.Game[:len(s.Game)-2], "/")]
	for path, status := range map[string]int{"/": 404, "/game.js": 404, s.Game[strings.Index(s.Game, port)+len(port):] + "game.js": 200} {
		r, err := visitor.Get("https://127.0.0.1:" + port + path)
		if err != nil {
			t.Fatal(err)
		}
		r.Body.Close()
		if r.StatusCode != status {
			t.Errorf("%s: %d, not %d", path, r.StatusCode, status)
		}
	}
}

// TestSlow: a slow line is as slow as it should be.
func TestSlow(t *testing.T) {
	g := newGame(sources(t)["folder"], Options{Slow: 5_000_000})
	began := time.Now()
	g.ServeHTTP(httptest.NewRecorder(), httptest.NewRequest("GET", "/lane.pack", nil))
	if took := time.Since(began); took < 400*time.Millisecond {
		t.Errorf("%d bytes at 5 MB a second took %v", len(large), took)
	}
}

// FuzzHear: whatever a game says, it is an event or refused.
func FuzzHear(f *testing.F) {
	f.Add([]byte(`[{"kind":"call","name":"a.b","arguments":[1,"x"]}]`))
	f.Add([]byte(`{"kind":"event","detail":{"event":"x"}}`))
	f.Fuzz(func(t *testing.T, data []byte) {
		g := newGame(&export.Build{}, Options{Heard: func(e Event) {
			if _, err := json.Marshal(e); err != nil {
				t.Fatal(err)
			}
		}})
		w := httptest.NewRecorder()
		g.ServeHTTP(w, httptest.NewRequest("POST", "/~havvel/heard", bytes.NewReader(data)))
		if w.Code != 204 && w.Code != 400 {
			t.Fatal(w.Code)
		}
	})
}

// TestExpectedFolder: a build that expects a folder of the host is never served from there, where portals don't serve it either.
func TestExpectedFolder(t *testing.T) {
	for _, folder := range []string{"game", "lane"} {
		page := filepath.Join(t.TempDir(), "index.html")
		if err := os.WriteFile(page, []byte("<script src=/"+folder+"/lane.js></script>"), 0o644); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(filepath.Join(filepath.Dir(page), "lane.js"), []byte("1"), 0o644); err != nil {
			t.Fatal(err)
		}
		b, err := export.Read(context.Background(), filepath.Dir(page))
		if err != nil {
			t.Fatal(err)
		}
		defer b.Close()
		s, err := Start(Config{Build: b})
		if err != nil {
			t.Fatal(err)
		}
		defer s.Close()
		host := s.Game[:strings.Index(s.Game[7:], "/")+7]
		for address, want := range map[string]int{s.Game + "lane.js": 200, host + "/" + folder + "/lane.js": 404} {
			answer, err := http.Get(address)
			if err != nil {
				t.Fatal(err)
			}
			answer.Body.Close()
			if answer.StatusCode != want {
				t.Errorf("%s: %d, not %d", address, answer.StatusCode, want)
			}
		}
	}
}
