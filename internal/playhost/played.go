package playhost

import (
	"context"
	_ "embed" // the listener
	"errors"
	"io"
	"maps"
	"net/http"
	"strconv"
	"strings"
	"sync"
	"time"

	"havvel/internal/export/web"
	"havvel/internal/filecache"
)

// A playing is a round whose game is served: all that is the same for its testers.
type playing struct {
	build *servedBuild

	mu      sync.Mutex
	heads   map[*servedFile]int // where the listener stands in pages
	round   *playRound
	checked time.Time
}

// playings remembers rounds that are played, by the secret in their game's address.
type playings struct {
	mu   sync.Mutex
	list map[string]*playing
}

// believed is how long a round that another host may have closed meanwhile is taken for open.
const believed = time.Second

// playing is the round under a secret, which is open; the error is errNoRound where there is none.
func (h *Host) playing(ctx context.Context, secret string) (*playing, error) {
	h.rounds.mu.Lock()
	p := h.rounds.list[secret]
	h.rounds.mu.Unlock()
	if p == nil {
		return h.beginPlaying(ctx, secret)
	}
	x, old := p.now(h.options.Now())
	if old { // the others go by what was, meanwhile
		var err error
		if x, err = scanRound(h.data.row(ctx, "SELECT "+roundColumns+" FROM rounds WHERE play = ?", secret)); err != nil {
			return nil, err
		}
		p.mu.Lock()
		p.round = x
		p.mu.Unlock()
	}
	if h.over(x) || x.paused {
		return nil, errNoRound
	}
	return p, nil
}

// now is the round as it was last seen. Where that is too long ago, the first who asks looks again.
func (p *playing) now(now time.Time) (x *playRound, old bool) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if age := now.Sub(p.checked); age > believed || age < 0 {
		p.checked, old = now, true
	}
	return p.round, old
}

func (h *Host) beginPlaying(ctx context.Context, secret string) (*playing, error) {
	x, err := scanRound(h.data.row(ctx, "SELECT "+roundColumns+" FROM rounds WHERE play = ?", secret))
	if err == nil && (h.over(x) || x.paused) {
		err = errNoRound
	}
	if err != nil {
		return nil, err
	}
	var of string
	if err := h.data.row(ctx, "SELECT secret FROM builds WHERE id = ?", x.build).Scan(&of); err != nil {
		return nil, err
	}
	p := &playing{round: x, checked: h.options.Now(), heads: map[*servedFile]int{}}
	if p.build, err = h.servedBuild(ctx, of); err != nil {
		return nil, err
	}
	if _, err := p.head(ctx, h, p.build.files["index.html"]); err != nil {
		return nil, err
	}
	h.rounds.mu.Lock()
	defer h.rounds.mu.Unlock()
	if h.rounds.list == nil || len(h.rounds.list) >= mostCached {
		h.rounds.list = map[string]*playing{}
	}
	h.rounds.list[secret] = p
	return p, nil
}

// head is where the listener stands in a page.
func (p *playing) head(ctx context.Context, h *Host, f *servedFile) (int, error) {
	p.mu.Lock()
	at, known := p.heads[f]
	p.mu.Unlock()
	if known {
		return at, nil
	}
	data, err := h.readContent(ctx, f)
	if err != nil {
		return 0, err
	}
	at = web.ReadPage(data).HeadStart
	p.mu.Lock()
	defer p.mu.Unlock()
	p.heads[f] = at
	return at, nil
}

// forgetPlaying has a round looked at anew by the next request.
func (h *Host) forgetPlaying(x *playRound) {
	h.rounds.mu.Lock()
	defer h.rounds.mu.Unlock()
	delete(h.rounds.list, x.play)
}

//go:embed listener.js
var listener string

// played serves one file of the build of a round, as long as that is open. Its pages bring the script that tells what happens: games go on
// in others than their entry page.
func (h *Host) played(w http.ResponseWriter, r *http.Request, secret, name string) {
	p, err := h.playing(r.Context(), secret)
	switch {
	case errors.Is(err, errNoRound):
		http.Error(w, "This round is over or paused, or there is none.", http.StatusGone)
		return
	case err != nil:
		if r.Context().Err() == nil {
			h.options.Log.Error("serving a round's game", "error", err)
		}
		http.Error(w, "The host has a problem; try again later.", http.StatusInternalServerError)
		return
	}
	f := p.build.find(name)
	switch {
	case f == nil:
		http.Error(w, "This file is not in the build.", http.StatusNotFound)
	case name == "" || name == "index.html", f.page() && strings.Contains(r.Header.Get("Accept"), "text/html"): // and not by a script
		h.playedPage(w, r, p, f)
	default:
		h.send(w, r, f, serving{p.build, true})
	}
}

// page reports whether a file is a page that can be written into.
func (f *servedFile) page() bool {
	return f.encoding == "" && strings.HasPrefix(f.kind[0], "text/html")
}

// playedPage serves a page with the listener in it. The page stays where it is kept: it can be large, and there may be many.
func (h *Host) playedPage(w http.ResponseWriter, r *http.Request, p *playing, f *servedFile) {
	at, err := p.head(r.Context(), h, f)
	if err != nil {
		http.Error(w, "The host has lost this file.", http.StatusInternalServerError)
		return
	}
	file, err := h.openContent(r.Context(), f)
	if err != nil {
		http.Error(w, "The host has lost this file.", http.StatusInternalServerError)
		return
	}
	defer file.Close()
	head := http.Header{}
	gameHeaders(head, p.build, []string{"no-store"})
	head.Set("Content-Type", "text/html; charset=utf-8")
	script := "<script>" + strings.Replace(listener, "CONTROL", h.options.ControlURL, 1) + "</script>"
	if f.bytes <= pageInMemory {
		data, err := io.ReadAll(file)
		if err != nil || len(data) < at {
			http.Error(w, "The host has lost this file.", http.StatusInternalServerError)
			return
		}
		filecache.NewReady(head, []byte(string(data[:at])+script+string(data[at:]))).Answer(w, r)
		return
	}
	maps.Copy(w.Header(), head)
	w.Header().Set("Content-Length", strconv.FormatInt(f.bytes+int64(len(script)), 10))
	if r.Method == http.MethodHead {
		return
	}
	// An error in what follows is a visitor who left.
	if _, err := io.CopyN(w, file, int64(at)); err != nil {
		return
	}
	if _, err := io.WriteString(w, script); err == nil {
		io.Copy(w, file)
	}
}

// pageInMemory is the largest page that is put together in memory.
const pageInMemory = 256 << 10
