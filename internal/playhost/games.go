package playhost

import (
	"context"
	"errors"
	"io"
	"net/http"
	"os"
	"path"
	"strings"
	"sync"
	"time"

	"github.com/andybalholm/brotli"
	"github.com/klauspost/compress/gzip"
)

// A served build is one whose files are known; it never changes.
type servedBuild struct {
	files    map[string]servedFile // by path
	isolated bool
}

type servedFile struct {
	sha256   string
	bytes    int64
	kind     string // content type
	encoding string // "gzip" or "br" where its name says so, else ""
}

// buildCache remembers builds that are played, by the secret in their address.
type buildCache struct {
	mu   sync.Mutex
	list map[string]*servedBuild
}

// mostCached is how many builds are remembered at most.
const mostCached = 200

func (h *Host) servedBuild(ctx context.Context, secret string) (*servedBuild, error) {
	h.builds.mu.Lock()
	b := h.builds.list[secret]
	h.builds.mu.Unlock()
	if b != nil {
		return b, nil
	}
	of, err := scanBuild(h.data.db.QueryRowContext(ctx, "SELECT "+buildColumns+" FROM builds WHERE secret = ? AND state = ?", secret, Ready))
	if err != nil {
		return nil, err
	}
	rows, err := h.data.db.QueryContext(ctx, "SELECT path, sha256, bytes FROM files WHERE build = ?", of.ID)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	b = &servedBuild{files: map[string]servedFile{}, isolated: of.isolated}
	for rows.Next() {
		var name string
		var f servedFile
		if err := rows.Scan(&name, &f.sha256, &f.bytes); err != nil {
			return nil, err
		}
		f.kind, f.encoding = typeOf(name)
		b.files[name] = f
	}
	if err := rows.Err(); err != nil {
		return nil, err
	}
	h.builds.mu.Lock()
	defer h.builds.mu.Unlock()
	if h.builds.list == nil || len(h.builds.list) >= mostCached {
		h.builds.list = map[string]*servedBuild{}
	}
	h.builds.list[secret] = b
	return b, nil
}

// types are those that browsers want to be told; the system's own table differs from machine to machine.
var types = map[string]string{
	".js": "text/javascript; charset=utf-8", ".mjs": "text/javascript; charset=utf-8", ".wasm": "application/wasm", ".html": "text/html; charset=utf-8",
	".css": "text/css; charset=utf-8", ".json": "application/json", ".svg": "image/svg+xml", ".ogg": "audio/ogg", ".mp3": "audio/mpeg", ".webp": "image/webp",
	".png": "image/png", ".jpg": "image/jpeg", ".jpeg": "image/jpeg", ".gif": "image/gif", ".avif": "image/avif", ".ico": "image/vnd.microsoft.icon", ".htm": "text/html; charset=utf-8",
	".wav": "audio/wav", ".m4a": "audio/mp4", ".flac": "audio/flac", ".webm": "video/webm", ".mp4": "video/mp4", ".ttf": "font/ttf", ".otf": "font/otf", ".woff": "font/woff", ".woff2": "font/woff2",
	".txt": "text/plain; charset=utf-8", ".xml": "application/xml", ".webmanifest": "application/manifest+json",
}

// typeOf is a file's content type, and how it is compressed, as its name says.
func typeOf(name string) (kind, encoding string) {
	inner := name
	for ending, e := range map[string]string{".gz": "gzip", ".br": "br"} {
		if cut, ok := strings.CutSuffix(name, ending); ok && path.Ext(cut) != "" {
			inner, encoding = cut, e
		}
	}
	if kind = types[strings.ToLower(path.Ext(inner))]; kind == "" {
		kind = "application/octet-stream"
	}
	return kind, encoding
}

func (h *Host) gameRoutes() http.Handler {
	mux := http.NewServeMux()
	mux.HandleFunc("GET /b/{secret}/{path...}", h.game)
	return mux
}

// game serves one file of a build.
func (h *Host) game(w http.ResponseWriter, r *http.Request) {
	b, err := h.servedBuild(r.Context(), r.PathValue("secret"))
	if errors.Is(err, errNoBuild) {
		http.Error(w, "There is no such build here.", http.StatusNotFound)
		return
	}
	if err != nil {
		h.options.Log.Error("serving a build", "error", err)
		http.Error(w, "The host has a problem; try again later.", http.StatusInternalServerError)
		return
	}
	name := r.PathValue("path")
	if name == "" || strings.HasSuffix(name, "/") {
		name += "index.html"
	}
	f, ok := b.files[name]
	for _, ending := range []string{".br", ".gz"} { // the game may name what was compressed by its own name
		if packed, there := b.files[name+ending]; !ok && there {
			f, ok = packed, true
		}
	}
	if !ok {
		http.Error(w, "This file is not in the build.", http.StatusNotFound)
		return
	}
	h.gameHeaders(w, b)
	h.send(w, r, f)
}

func (h *Host) gameHeaders(w http.ResponseWriter, b *servedBuild) {
	head := w.Header()
	head.Set("X-Content-Type-Options", "nosniff")
	head.Set("Referrer-Policy", "no-referrer")
	head.Set("Cache-Control", "public, max-age=31536000, immutable") // the address names one version
	head.Set("Cross-Origin-Resource-Policy", "cross-origin")
	if b.isolated {
		head.Set("Cross-Origin-Opener-Policy", "same-origin")
		head.Set("Cross-Origin-Embedder-Policy", "require-corp")
	}
}

// send serves a content as it is kept, with ranges and validators (RFC 9110, sections 13 and 14); one that is compressed and that
// the browser doesn't take is unpacked on the way.
func (h *Host) send(w http.ResponseWriter, r *http.Request, f servedFile) {
	file, err := os.Open(h.contents.path(f.sha256))
	if err != nil {
		h.options.Log.Error("a content is missing", "sha256", f.sha256, "error", err)
		http.Error(w, "The host has lost this file.", http.StatusInternalServerError)
		return
	}
	defer file.Close()
	head := w.Header()
	head.Set("Content-Type", f.kind)
	head.Set("Etag", `"`+f.sha256[:32]+`"`)
	if f.encoding == "" {
		http.ServeContent(w, r, "", time.Time{}, file)
		return
	}
	head.Set("Vary", "Accept-Encoding")
	if takes(r, f.encoding) {
		head.Set("Content-Encoding", f.encoding)
		http.ServeContent(w, r, "", time.Time{}, file)
		return
	}
	head.Set("Etag", `"`+f.sha256[:32]+`-plain"`)
	var plain io.Reader = brotli.NewReader(file)
	if f.encoding == "gzip" {
		if plain, err = gzip.NewReader(file); err != nil {
			http.Error(w, "This file is damaged.", http.StatusInternalServerError)
			return
		}
	}
	io.Copy(w, plain) // an error here is a visitor who left, or a file that was damaged when it was sent
}

// takes reports whether a browser takes an encoding (RFC 9110, section 12.5.3).
func takes(r *http.Request, encoding string) bool {
	for part := range strings.SplitSeq(r.Header.Get("Accept-Encoding"), ",") {
		name, q, _ := strings.Cut(strings.TrimSpace(part), ";")
		if strings.EqualFold(strings.TrimSpace(name), encoding) && strings.ReplaceAll(q, " ", "") != "q=0" {
			return true
		}
	}
	return false
}
