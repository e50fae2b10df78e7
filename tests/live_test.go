//go:build unix

package tests

import (
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
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
		}, 1, []string{"havvel.json: it may be kept by caches for 86400 seconds"}, false},
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
