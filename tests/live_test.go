//go:build unix

package tests

import (
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"

	"havvel/internal/demo/game"
)

// TestLive: what players get in another form than it was sent is named by what is wrong with it, and a stale cache is told from a
// wrong upload.
func TestLive(t *testing.T) {
	for name, c := range map[string]struct {
		toml string // more of havvel.toml
		host func(files http.Handler) http.HandlerFunc
		code int
		says []string

		refused bool // to publish
	}{
		"as it was sent": {"", func(h http.Handler) http.HandlerFunc { return h.ServeHTTP }, 0, []string{"all as sent"}, false},
		"a stale cache": {"", func(h http.Handler) http.HandlerFunc {
			return func(w http.ResponseWriter, r *http.Request) {
				if strings.HasSuffix(r.URL.Path, "game.js") && r.URL.RawQuery == "" {
					w.Header().Set("Content-Type", "text/javascript")
					w.Write([]byte("of yesterday"))
					return
				}
				h.ServeHTTP(w, r)
			}
		}, 1, []string{"game.js: players get an old content from a cache on the way", "empty the cache"}, false},
		"a host that changes files": {"", func(h http.Handler) http.HandlerFunc {
			return func(w http.ResponseWriter, r *http.Request) {
				if strings.HasSuffix(r.URL.Path, "style.css") {
					w.Header().Set("Content-Type", "text/css")
					w.Write([]byte("p{} /* served with love */"))
					return
				}
				h.ServeHTTP(w, r)
			}
		}, 1, []string{"style.css: players get other content"}, true},
		"a file that the host hides": {"", func(h http.Handler) http.HandlerFunc {
			return func(w http.ResponseWriter, r *http.Request) {
				if strings.HasSuffix(r.URL.Path, ".wasm") {
					http.Error(w, "not for you", http.StatusForbidden)
					return
				}
				h.ServeHTTP(w, r)
			}
		}, 1, []string{"rules.wasm: players get status 403"}, true},
		"a type that browsers refuse": {"", func(h http.Handler) http.HandlerFunc {
			return func(w http.ResponseWriter, r *http.Request) {
				if strings.HasSuffix(r.URL.Path, ".wasm") {
					w.Header().Set("Content-Type", "text/plain")
				}
				h.ServeHTTP(w, r)
			}
		}, 1, []string{`rules.wasm: it comes as "text/plain" instead of "application/wasm"`}, true},
		"threads without headers": {"isolation = true\n", func(h http.Handler) http.HandlerFunc { return h.ServeHTTP }, 1,
			[]string{"without cross-origin isolation headers"}, true},
		"a pointer that is kept": {"", func(h http.Handler) http.HandlerFunc {
			return func(w http.ResponseWriter, r *http.Request) {
				w.Header().Set("Cache-Control", "public, max-age=86400")
				h.ServeHTTP(w, r)
			}
		}, 1, []string{"index.html: it may be kept by caches for 86400 seconds"}, false},
		"another folder": {"", func(http.Handler) http.HandlerFunc { return http.NotFound }, 1, []string{"the public address does not show " +
			"what is on the site"}, true},
		"nobody": {"", nil, 4, []string{"where players go: nothing answers there"}, true},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			root := t.TempDir()
			address := "http://127.0.0.1:1"
			if c.host != nil {
				web := httptest.NewServer(c.host(http.FileServer(http.Dir(root))))
				defer web.Close()
				address = web.URL
			}
			p := siteProject(t, &machine{address: root}, address, c.toml)
			writeInto(t, p, game.Files{"web/style.css": []byte("p{}"), "web/rules.wasm": []byte("\x00asm\x01\x00\x00\x00")})
			run(t, p, "send").must(t, 0)
			if c.refused {
				e := run(t, p, "publish").must(t, c.code)
				if _, err := os.Stat(filepath.Join(root, "havvel.json")); err == nil || !strings.Contains(e.err+e.out, "nothing was changed") {
					t.Errorf("it was published, though players get something else: %s%s", e.out, e.err)
				}
			}
			run(t, p, "publish", "--accept-differences").must(t, c.code%4)
			run(t, p, "where", "--live").must(t, c.code, c.says...)
			e := run(t, p, "where", "--live", "--json").must(t, c.code)
			if c.code == 1 && !strings.Contains(e.out, `"differences"`) {
				t.Errorf("the JSON lacks them: %s", e.out)
			}
			if files, _ := filepath.Glob(filepath.Join(root, "versions", "*", "game.js")); len(files) != 1 {
				t.Errorf("%v", files)
			}
		})
	}
}

// TestTakenBack: a link that doesn't open after a version was made public is taken back, and what players have then was seen; a cache
// that still has the former answer is named with the time until which it keeps it.
func TestTakenBack(t *testing.T) {
	for name, c := range map[string]struct {
		broken func(w http.ResponseWriter, r *http.Request, index, page []byte) bool // answers itself
		code   int
		says   []string
		back   bool
	}{
		"a copy that is not made again": {func(w http.ResponseWriter, r *http.Request, index, _ []byte) bool {
			if !strings.HasSuffix(r.URL.Path, "havvel.json") {
				return false
			}
			w.Write(index)
			return true
		}, 1, []string{"havvel.json: players are led to", "taken back; players have what they had"}, true},
		"a page that breaks, and stays broken": {func(w http.ResponseWriter, r *http.Request, _, _ []byte) bool {
			if r.URL.Path == "/" {
				w.WriteHeader(http.StatusInternalServerError)
			}
			return r.URL.Path == "/"
		}, 4, []string{"the public link answers with status 500", "whether players have what they had can't be told"}, true},
		"a page that breaks once": {func() func(w http.ResponseWriter, r *http.Request, _, _ []byte) bool {
			var seen atomic.Int32
			return func(w http.ResponseWriter, r *http.Request, _, _ []byte) bool {
				if r.URL.Path != "/" || seen.Add(1) > 1 {
					return false
				}
				w.WriteHeader(http.StatusInternalServerError)
				return true
			}
		}(), 1, []string{"the public link answers with status 500", "taken back; players have what they had"}, true},
		"nothing answers any more": {func(w http.ResponseWriter, r *http.Request, _, _ []byte) bool {
			if strings.Contains(r.URL.Path, "/versions/") {
				return false
			}
			w.WriteHeader(http.StatusBadGateway)
			return true
		}, 4, []string{"status 502", "can't be told", "havvel where"}, true},
		"a cache": {func(w http.ResponseWriter, r *http.Request, _, page []byte) bool {
			if r.URL.Path != "/" || r.URL.RawQuery != "" {
				return false
			}
			w.Header().Set("Cache-Control", "max-age=3600")
			w.Header().Set("Age", "60")
			w.Write(page)
			return true
		}, 1, []string{"a cache on the way still leads players to 0.4.0-", ", until "}, false},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			root := t.TempDir()
			var before atomic.Pointer[[2][]byte]
			files := http.FileServer(http.Dir(root))
			web := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
				if b := before.Load(); b == nil || !c.broken(w, r, b[0], b[1]) {
					files.ServeHTTP(w, r)
				}
			}))
			defer web.Close()
			p := siteProject(t, &machine{address: root}, web.URL, "")
			run(t, p, "send").must(t, 0)
			run(t, p, "publish").must(t, 0)
			now := func() [2][]byte {
				files := snapshot(t, root)
				return [2][]byte{[]byte(files["/havvel.json"]), []byte(files["/index.html"])}
			}
			first := now()
			raise(t, p, "0.4.0", "0.4.1")
			run(t, p, "send").must(t, 0)
			before.Store(&first)
			run(t, p, "publish").must(t, c.code, c.says...)
			before.Store(nil)
			if back := strings.Contains(string(now()[1]), `content="0.4.0-`); back != c.back {
				t.Errorf("taken back: %v; the site says %s", back, now())
			}
			state := map[bool]string{true: "0.4.1    replaced", false: "0.4.1    public"}[c.back]
			run(t, p, "where").must(t, 0, state)
		})
	}
}
