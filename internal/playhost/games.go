package playhost

import (
	"context"
	_ "embed" // the listener
	"errors"
	"io"
	"maps"
	"net/http"
	"slices"
	"strings"
	"sync"

	"github.com/andybalholm/brotli"
	"github.com/klauspost/compress/gzip"

	"havvel/internal/export/web"
	"havvel/internal/filecache"
	"havvel/internal/hosting"
)

// A served build is one whose files are known; it never changes.
type servedBuild struct {
	files    map[string]*servedFile // by path
	isolated bool
}

type servedFile struct {
	sha256   string
	bytes    int64
	kind     []string // content type
	tag      []string // its validator
	encoding string   // "gzip" or "br" where its name says so, else ""
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
	of, err := scanBuild(h.data.row(ctx, "SELECT "+buildColumns+" FROM builds WHERE secret = ? AND state = ?", secret, Ready))
	if err != nil {
		return nil, err
	}
	rows, err := h.data.query(ctx, "SELECT path, sha256, bytes FROM files WHERE build = ?", of.ID)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	b = &servedBuild{files: map[string]*servedFile{}, isolated: of.isolated}
	for rows.Next() {
		var name string
		f := new(servedFile)
		if err := rows.Scan(&name, &f.sha256, &f.bytes); err != nil {
			return nil, err
		}
		kind, encoding := typeOf(name)
		f.kind, f.encoding, f.tag = []string{kind}, encoding, []string{`"` + f.sha256[:32] + `"`}
		b.files[name] = f
	}
	if err := rows.Err(); err != nil {
		return nil, err
	}
	h.builds.mu.Lock()
	defer h.builds.mu.Unlock()
	if h.builds.list == nil || len(h.builds.list) >= mostCached {
		h.builds.list = map[string]*servedBuild{}
		h.held.Clear()
	}
	h.builds.list[secret] = b
	return b, nil
}

// typeOf is a file's content type, and how it is compressed, as its name says.
func typeOf(name string) (kind, encoding string) {
	inner, encoding := hosting.Plain(name)
	return hosting.TypeOf(inner), encoding
}

func (h *Host) gameRoutes() http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		h.counts.games.Add(1)
		at := r.URL.Path
		if len(at) < 3 || at[:3] != "/b/" && at[:3] != "/p/" {
			http.NotFound(w, r)
			return
		}
		secret, name, ok := strings.Cut(at[3:], "/")
		switch {
		case !ok:
			http.NotFound(w, r)
		case r.Method != http.MethodGet && r.Method != http.MethodHead:
			http.Error(w, "A game's files can only be read.", http.StatusMethodNotAllowed)
		case at[1] == 'p':
			h.played(w, r, secret, name)
		default:
			h.game(w, r, secret, name)
		}
	})
}

var packedEndings = []string{".br", ".gz"}

// game serves one file of a build.
func (h *Host) game(w http.ResponseWriter, r *http.Request, secret, name string) {
	b, err := h.servedBuild(r.Context(), secret)
	if errors.Is(err, errNoBuild) {
		http.Error(w, "There is no such build here.", http.StatusNotFound)
		return
	}
	if err != nil {
		h.options.Log.Error("serving a build", "error", err)
		http.Error(w, "The host has a problem; try again later.", http.StatusInternalServerError)
		return
	}
	if name == "" || strings.HasSuffix(name, "/") {
		name += "index.html"
	}
	f := b.files[name]
	for i := 0; f == nil && i < len(packedEndings); i++ { // the game may name what was compressed by its own name
		f = b.files[name+packedEndings[i]]
	}
	if f == nil {
		http.Error(w, "This file is not in the build.", http.StatusNotFound)
		return
	}
	h.send(w, r, b, f)
}

// Values of headers that many answers share; they are never changed.
var (
	nosniff  = []string{"nosniff"}
	silent   = []string{"no-referrer"}
	forever  = []string{"public, max-age=31536000, immutable"} // the address names one version
	anywhere = []string{"cross-origin"}
)

func gameHeaders(head http.Header, b *servedBuild) {
	head["X-Content-Type-Options"], head["Referrer-Policy"], head["Cache-Control"], head["Cross-Origin-Resource-Policy"] = nosniff, silent,
		forever, anywhere
	hosting.Host{Isolation: b.isolated}.Isolate(head)
}

// send serves a content as it is kept, with ranges and validators (RFC 9110, sections 13 and 14); one that is compressed and that
// the browser doesn't take is unpacked on the way.
func (h *Host) send(w http.ResponseWriter, r *http.Request, b *servedBuild, f *servedFile) {
	as := f.encoding == "" || takes(r, f.encoding)
	head := func() http.Header {
		head := http.Header{"Content-Type": f.kind, "Etag": f.tag}
		gameHeaders(head, b)
		if f.encoding != "" {
			head.Set("Vary", "Accept-Encoding")
			if as {
				head.Set("Content-Encoding", f.encoding)
			}
		}
		return head
	}
	if as {
		if ready := h.held.Get(f, f.bytes, head, func() ([]byte, error) { return h.contents.read(r.Context(), f.sha256) }); ready != nil {
			ready.Answer(w, r)
			return
		}
	}
	file, err := h.contents.open(r.Context(), f.sha256)
	if err != nil {
		h.options.Log.Error("a content is missing", "sha256", f.sha256, "error", err)
		http.Error(w, "The host has lost this file.", http.StatusInternalServerError)
		return
	}
	defer file.Close()
	maps.Copy(w.Header(), head())
	if as {
		filecache.AnswerFrom(w, r, file, f.bytes)
		return
	}
	w.Header().Set("Etag", `"`+f.sha256[:32]+`-plain"`)
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

//go:embed listener.js
var listener string

// played serves one file of the build of a round, as long as that is open. The entry page brings the script that tells what happens.
func (h *Host) played(w http.ResponseWriter, r *http.Request, play, name string) {
	x, err := scanRound(h.data.row(r.Context(), "SELECT "+roundColumns+" FROM rounds WHERE play = ?", play))
	if err != nil || h.over(x) {
		http.Error(w, "This round is over, or there is none.", http.StatusGone)
		return
	}
	var of string
	if err := h.data.row(r.Context(), "SELECT secret FROM builds WHERE id = ?", x.build).Scan(&of); err != nil {
		http.Error(w, "The host has a problem; try again later.", http.StatusInternalServerError)
		return
	}
	if name != "" && name != "index.html" {
		h.game(w, r, of, name)
		return
	}
	b, err := h.servedBuild(r.Context(), of)
	if err != nil {
		http.Error(w, "There is no such build here.", http.StatusNotFound)
		return
	}
	data, err := h.contents.read(r.Context(), b.files["index.html"].sha256)
	if err != nil {
		http.Error(w, "The host has lost this file.", http.StatusInternalServerError)
		return
	}
	at := web.ReadPage(data).HeadStart
	script := "<script>" + strings.Replace(listener, "CONTROL", h.options.ControlURL, 1) + "</script>"
	head := http.Header{}
	gameHeaders(head, b)
	head.Set("Cache-Control", "no-store")
	head.Set("Content-Type", "text/html; charset=utf-8")
	filecache.NewReady(head, slices.Concat(data[:at], []byte(script), data[at:])).Answer(w, r)
}
