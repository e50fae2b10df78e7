// Package serve serves a build over HTTP as a host does: right types, Content-Encoding for what was compressed before, ranges,
// validators, and isolation headers where they are wanted. It serves straight from a folder or a zip. What the game says while
// it runs is handed on; judging that is left to trial.
package serve

import (
	"bytes"
	"context"
	_ "embed"
	"encoding/hex"
	"encoding/json"
	"io"
	"net/http"
	"os"
	"path"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"havvel/internal/export"
	"havvel/internal/filecache"
	"havvel/internal/hosting"
	"havvel/internal/rulebook"
)

// own is the folder under which what is not the game's is served.
const own = "~havvel/"

// Options say how a game is served.
type Options struct {
	Rules     *rulebook.Rulebook // of the portal that is imitated; nil for a host that serves every encoding
	Isolation bool               // send cross-origin isolation headers
	Heard     func(Event)        // is told what the game says, one at a time; may be nil
	Slow      int64              // bytes a second, over all; 0 for no limit
	Plain     bool               // pages are served as they are: the browser answers for the portal's scripts
}

// An Event is something that the game said while it ran.
type Event struct {
	Kind string `json:"kind"` // "call", "event", "error" or "missing"
	// of the call or event; of the file that is missing, from / where it was looked for outside of the game
	Name      string          `json:"name"`
	Arguments json.RawMessage `json:"arguments,omitempty"`
	Detail    json.RawMessage `json:"detail,omitempty"`
	Message   string          `json:"message,omitempty"`
	File      string          `json:"file,omitempty"`
	Line      int             `json:"line,omitempty"`
	Column    int             `json:"column,omitempty"`
	At        float64         `json:"at"` // milliseconds since the page began
	N         int             `json:"n"`  // its place among all events of the page, from 1; they may arrive in another order
}

// Inferred reports whether pack's adapter sent an event, and not the game.
func (e Event) Inferred() bool {
	var d struct{ Inferred bool }
	return e.Kind == "event" && json.Unmarshal(e.Detail, &d) == nil && d.Inferred
}

// A Game serves a build; it is an http.Handler. Close it in the end.
type Game struct {
	options Options
	build   atomic.Pointer[export.Build]
	mu      sync.Mutex
	spooled map[*export.File]string // files of a zip that were unpacked, by where to
	held    filecache.Cache         // small files that were asked for, by their *export.File
	line    sync.Mutex              // of Heard
	pace    *pace
}

// newGame returns a handler for a build.
func newGame(b *export.Build, o Options) *Game {
	g := &Game{options: o, spooled: map[*export.File]string{}, pace: newPace(o.Slow)}
	g.build.Store(b)
	return g
}

// Replace serves another build from now on.
func (g *Game) Replace(b *export.Build) {
	g.build.Store(b)
	g.held.Clear()
}

// Close takes away what was unpacked.
func (g *Game) Close() {
	g.mu.Lock()
	defer g.mu.Unlock()
	for _, file := range g.spooled {
		os.Remove(file)
	}
	clear(g.spooled)
}

// ServeHTTP implements http.Handler.
func (g *Game) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	name := strings.TrimPrefix(path.Clean("/"+r.URL.Path), "/")
	h := w.Header()
	g.model().Isolate(h)
	h.Set("Cross-Origin-Resource-Policy", "cross-origin")
	if g.options.Rules != nil && g.options.Rules.Serves.CORS || strings.HasPrefix(name, own) {
		h.Set("Access-Control-Allow-Origin", "*")
	}
	switch {
	case name == own+"heard":
		g.hear(w, r)
		return
	case strings.HasPrefix(name, own+"hook-"):
		g.hook(w, name)
		return
	case r.Method != http.MethodGet && r.Method != http.MethodHead:
		http.Error(w, "a game's files can only be read", http.StatusMethodNotAllowed)
		return
	}
	f := g.fileAt(name, name == "" || strings.HasSuffix(r.URL.Path, "/"))
	if f == nil || f.Junk != "" {
		g.tell(Event{Kind: "missing", Name: name})
		notThere(w)
		return
	}
	if g.pace != nil {
		w = &paced{w, g.pace}
	}
	g.file(w, r, f)
}

// notThere answers as hosts do: without the header that has browsers complain about the answer's type instead of the missing file.
func notThere(w http.ResponseWriter) {
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	w.WriteHeader(http.StatusNotFound)
	io.WriteString(w, "<!doctype html><title>404 Not Found</title><h1>404 Not Found</h1>\n")
}

// fileAt is the file for a name; of a folder, its page.
func (g *Game) fileAt(name string, folder bool) *export.File {
	b := g.build.Load()
	if !folder || b.Entry == nil {
		return b.File(b.Base + name)
	}
	f := b.File(b.Base + path.Join(name, export.EntryName))
	if f == nil && name == "" {
		f = b.Entry
	}
	return f
}

// astray answers a request for what is not in the game's folder: on a portal there is nothing of the game's.
func (g *Game) astray(w http.ResponseWriter, r *http.Request) {
	notThere(w)
	if r.URL.Path == "/favicon.ico" {
		return
	}
	g.tell(Event{Kind: "missing", Name: r.URL.Path})
}

// front serves a file that stands in front of the build.
func (g *Game) front(w http.ResponseWriter, r *http.Request, data []byte, kind string) {
	g.model().Isolate(w.Header())
	w.Header().Set("Content-Type", kind)
	w.Header().Set("Cache-Control", "no-store")
	http.ServeContent(w, r, "", time.Time{}, bytes.NewReader(data))
}

// file serves one file of the build.
func (g *Game) file(w http.ResponseWriter, r *http.Request, f *export.File) {
	h := w.Header()
	h.Set("Cache-Control", "no-cache")
	sent := g.model().Send(f.Path)
	h.Set("Content-Type", sent.Type)
	if sent.Encoding != "" {
		h.Set("Content-Encoding", sent.Encoding)
	}
	if f.Page != nil && f.Encoding == "" && !g.options.Plain {
		g.page(w, r, f)
		return
	}
	h["Etag"] = []string{`"` + hex.EncodeToString(f.SHA256[:12]) + `"`}
	if ready := g.held.Get(f, f.Bytes, h.Clone, func() ([]byte, error) { return f.ReadAll(context.Background(), f.Bytes+1) }); ready != nil {
		ready.Answer(w, r)
		return
	}
	content, err := g.open(f)
	if err != nil {
		http.Error(w, "the file can't be read", http.StatusInternalServerError)
		return
	}
	defer content.Close()
	http.ServeContent(w, r, "", time.Time{}, content)
}

// model is how the host that is imitated serves files.
func (g *Game) model() hosting.Host {
	host := hosting.Any
	if g.options.Rules != nil {
		host.Encodings = g.options.Rules.Serves.Encodings
	}
	host.Isolation = g.options.Isolation
	return host
}

// mostSaid is the most that a game may say at once, in bytes.
const mostSaid = 256 << 10

func (g *Game) hear(w http.ResponseWriter, r *http.Request) {
	var list []Event
	if err := json.NewDecoder(http.MaxBytesReader(w, r.Body, mostSaid)).Decode(&list); err != nil {
		http.Error(w, "these are no events", http.StatusBadRequest)
		return
	}
	for _, e := range list {
		g.tell(e)
	}
	w.WriteHeader(http.StatusNoContent)
}

func (g *Game) tell(e Event) {
	if g.options.Heard == nil {
		return
	}
	g.line.Lock()
	defer g.line.Unlock()
	g.options.Heard(e)
}

type seekable interface {
	io.ReadSeeker
	io.Closer
}

// open opens a file so that any part of it can be read. One of a zip is unpacked first, once.
func (g *Game) open(f *export.File) (seekable, error) {
	r, err := f.Open()
	if err != nil {
		return nil, err
	}
	if s, ok := r.(seekable); ok {
		return s, nil
	}
	defer r.Close()
	g.mu.Lock()
	defer g.mu.Unlock()
	if name, ok := g.spooled[f]; ok {
		return os.Open(name)
	}
	to, err := os.CreateTemp("", "havvel-serve-*")
	if err != nil {
		return nil, err
	}
	g.spooled[f] = to.Name()
	if _, err = io.Copy(to, io.LimitReader(r, f.Bytes)); err == nil {
		_, err = to.Seek(0, io.SeekStart)
	}
	if err != nil {
		to.Close()
		os.Remove(to.Name())
		delete(g.spooled, f)
		return nil, err
	}
	return to, nil
}
