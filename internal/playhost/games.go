package playhost

import (
	"context"
	_ "embed" // the listener
	"errors"
	"io"
	"maps"
	"net/http"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/andybalholm/brotli"
	"github.com/klauspost/compress/gzip"

	"havvel/internal/filecache"
	"havvel/internal/hosting"
	"havvel/internal/progress"
)

// A served build is one whose files are known; it never changes.
type servedBuild struct {
	files    map[string]*servedFile // by path
	isolated bool
	checked  atomic.Int64 // when it was last seen to be there, in nanoseconds
}

type servedFile struct {
	sha256   string
	name     string // among the files
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
	if b != nil && !h.doubted(b) {
		return b, nil
	}
	of, err := scanBuild(h.data.row(ctx, "SELECT "+buildColumns+" FROM builds WHERE secret = ? AND state = ?", secret, Ready))
	if errors.Is(err, errNoBuild) {
		h.builds.forget(secret)
	}
	if err != nil || b != nil { // it is as it was: a build never changes
		return b, err
	}
	rows, err := h.data.query(ctx, `SELECT path, files.sha256, files.bytes, contents.name FROM files
		JOIN contents ON contents.sha256 = files.sha256 WHERE build = ?`, of.ID)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	b = &servedBuild{files: map[string]*servedFile{}, isolated: of.isolated}
	for rows.Next() {
		var name string
		f := new(servedFile)
		if err := rows.Scan(&name, &f.sha256, &f.bytes, &f.name); err != nil {
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
	b.checked.Store(h.options.Now().UnixNano())
	h.builds.list[secret] = b
	return b, nil
}

// doubted reports whether it is time to look whether a build is still there. One request looks, and the others go by what was.
func (h *Host) doubted(b *servedBuild) bool {
	now, last := h.options.Now().UnixNano(), b.checked.Load()
	return (now-last > int64(10*time.Second) || now < last) && b.checked.CompareAndSwap(last, now)
}

// forget has a build looked for anew.
func (c *buildCache) forget(secret string) {
	c.mu.Lock()
	defer c.mu.Unlock()
	delete(c.list, secret)
}

// typeOf is a file's content type, and how it is compressed, as its name says.
func typeOf(name string) (kind, encoding string) {
	inner, encoding := hosting.Plain(name)
	return hosting.TypeOf(inner), encoding
}

// ownHost reports whether a game is asked for on its own origin, where each has one: on another game's, it would share what that saves.
func (h *Host) ownHost(host, secret string) bool {
	before, after, star := strings.Cut(h.gamesHost, "*")
	return !star || strings.EqualFold(host, before+secret+after)
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
		case !h.ownHost(r.Host, secret):
			http.Error(w, "This game is at another address.", http.StatusMisdirectedRequest)
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
	f := b.find(name)
	if f == nil {
		http.Error(w, "This file is not in the build.", http.StatusNotFound)
		return
	}
	h.send(w, r, f, serving{b, false})
}

// find is the file of a build under a name in its address; nil where there is none.
func (b *servedBuild) find(name string) *servedFile {
	if name == "" || strings.HasSuffix(name, "/") {
		name += "index.html"
	}
	f := b.files[name]
	for i := 0; f == nil && i < len(packedEndings); i++ { // the game may name what was compressed by its own name
		f = b.files[name+packedEndings[i]]
	}
	return f
}

// Values of headers that many answers share; they are never changed.
var (
	nosniff  = []string{"nosniff"}
	silent   = []string{"no-referrer"}
	forever  = []string{"public, max-age=31536000, immutable"} // the address names one version
	shortly  = []string{"private, max-age=300"}                // nobody else keeps what a round's testers get, and they not for long
	anywhere = []string{"cross-origin"}
)

func gameHeaders(head http.Header, b *servedBuild, keep []string) {
	head["X-Content-Type-Options"], head["Referrer-Policy"], head["Cache-Control"], head["Cross-Origin-Resource-Policy"] = nosniff, silent,
		keep, anywhere
	hosting.Host{Isolation: b.isolated}.Isolate(head)
}

// serving is how a file is served: of which build, and whether to a round's testers.
type serving struct {
	*servedBuild
	inRound bool
}

// keep is what caches are told.
func (s serving) keep() []string {
	if s.inRound {
		return shortly
	}
	return forever
}

// head is the header of a file, compressed as it is or plain.
func (f *servedFile) head(how serving, as bool) http.Header {
	head := http.Header{"Content-Type": f.kind, "Etag": f.tag}
	gameHeaders(head, how.servedBuild, how.keep())
	if f.encoding != "" {
		head.Set("Vary", "Accept-Encoding")
		if as {
			head.Set("Content-Encoding", f.encoding)
		}
	}
	return head
}

// send serves a content as it is kept, with ranges and validators (RFC 9110, sections 13 and 14); one that is compressed and that
// the browser doesn't take is unpacked on the way.
func (h *Host) send(w http.ResponseWriter, r *http.Request, f *servedFile, how serving) {
	as := f.encoding == "" || takes(r, f.encoding)
	if as {
		ready := h.held.Find(f)
		if ready == nil {
			ready = h.held.Get(f, f.bytes, func() http.Header { return f.head(how, true) },
				func() ([]byte, error) { return h.readContent(r.Context(), f) })
		}
		if ready != nil {
			ready.AnswerKept(w, r, how.keep())
			return
		}
	}
	file, err := h.openContent(r.Context(), f)
	if err != nil {
		h.options.Log.Error("a content is missing", "sha256", f.sha256, "error", err)
		http.Error(w, "The host has lost this file.", http.StatusInternalServerError)
		return
	}
	defer file.Close()
	maps.Copy(w.Header(), f.head(how, as))
	if as {
		filecache.AnswerFrom(w, r, file, f.bytes)
		return
	}
	h.plain(w, r, f, file)
}

// mostUnpacking is how many visitors a file is unpacked for at a time; others wait.
const mostUnpacking = 8

// plain serves what is compressed to a browser that doesn't take it so.
func (h *Host) plain(w http.ResponseWriter, r *http.Request, f *servedFile, file io.Reader) {
	select {
	case h.unpacking <- struct{}{}:
		defer func() { <-h.unpacking }()
	case <-r.Context().Done():
		return
	}
	w.Header().Set("Etag", `"`+f.sha256[:32]+`-plain"`)
	var plain io.Reader = brotli.NewReader(file)
	if f.encoding == "gzip" {
		var err error
		if plain, err = gzip.NewReader(file); err != nil {
			http.Error(w, "This file is damaged.", http.StatusInternalServerError)
			return
		}
	}
	most := min(f.bytes*mostRatio+1<<16, mostFile)
	io.Copy(w, progress.Reader(r.Context(), io.LimitReader(plain, most), progress.None)) // an error is a visitor who left, or a damaged file
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
