package tests

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"image"
	_ "image/png"
	"net"
	"net/http"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	driver "havvel/internal/browser"
	model "havvel/internal/hosting"
)

// A playedSide is a build: a folder, and the path on the host at which it is served.
type playedSide struct {
	Folder string
	At     string // begins and ends with a slash
	Allow  []string
	Host   model.Host // that serves it; isolated in any case
}

// A played game is what one side did, as a server and a browser tell, without a trial's judgement.
type played struct {
	Failed []string // paths that were asked for and are not there: in the build, or from the host's root, with a slash before them
	Loaded []string // paths in the build that were answered
	Errors []string // exceptions that nothing caught
	Drawn  bool     // the picture has more than one colour
}

const (
	quiet   = 1200 * time.Millisecond // without a request, after which a game has loaded what it loads at first
	longest = 20 * time.Second        // that is waited for it
)

// playSide serves one side and opens it in a browser. The error says what is wrong with the machine or the browser; what the game does
// is in what was played.
func playSide(ctx context.Context, program string, s playedSide) (*played, error) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return nil, fmt.Errorf("starting the server: %w", err)
	}
	h := &playHost{side: s}
	server := &http.Server{Handler: h, ReadHeaderTimeout: longest}
	go server.Serve(l)
	defer server.Close()
	errs := &complaints{}
	b, err := driver.Start(ctx, program)
	if err != nil {
		return nil, fmt.Errorf("opening a browser: %w", err)
	}
	defer b.Close()
	tab, err := b.Open(ctx, driver.Window{Width: 800, Height: 600}, errs.hear)
	if err != nil {
		return nil, fmt.Errorf("opening a window: %w", err)
	}
	defer tab.Close()
	if err := tab.Go(ctx, "http://"+l.Addr().String()+s.At); err != nil {
		return nil, fmt.Errorf("opening the game: %w", err)
	}
	for range 2 { // what the page does once it is there may ask for more
		if err := h.settled(ctx); err != nil {
			return nil, err
		}
		// On a busy machine, the page may not have begun yet with what came.
		if err := tab.Evaluate(ctx, "", shown, nil); err != nil && !errors.Is(err, driver.ErrGone) {
			return nil, fmt.Errorf("waiting for the game: %w", err)
		}
	}
	shot, err := tab.Picture(ctx)
	if err != nil {
		return nil, fmt.Errorf("taking a picture: %w", err)
	}
	r := h.run()
	r.Errors, r.Drawn = errs.list(l.Addr().String()), drawn(shot)
	return r, nil
}

// shown is kept once the page is loaded and has been drawn twice, or doesn't get there within some seconds.
const shown = `new Promise(done => {
	setTimeout(() => done(), 5000);
	const drawn = () => requestAnimationFrame(() => requestAnimationFrame(() => done()));
	document.readyState === "complete" ? drawn() : addEventListener("load", drawn);
})`

// playHost serves the files of a side, and notes what is asked for.
type playHost struct {
	side   playedSide
	mu     sync.Mutex
	last   time.Time
	open   int
	failed map[string]bool
	loaded map[string]bool
}

func (h *playHost) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	h.mu.Lock()
	h.open++
	h.mu.Unlock()
	name, ok := h.serve(w, r)
	h.mu.Lock()
	defer h.mu.Unlock()
	h.open--
	h.last = time.Now()
	if h.failed == nil {
		h.failed, h.loaded = map[string]bool{}, map[string]bool{}
	}
	switch {
	case strings.HasSuffix(name, "favicon.ico") || slices.Contains(h.side.Allow, name):
	case ok:
		h.loaded[name] = true
	default:
		h.failed[name] = true
	}
}

func (h *playHost) serve(w http.ResponseWriter, r *http.Request) (name string, ok bool) {
	name, ok = strings.CutPrefix(r.URL.Path, h.side.At)
	if !ok {
		http.NotFound(w, r)
		return r.URL.Path, false
	}
	file := filepath.Join(h.side.Folder, filepath.FromSlash(path.Clean("/"+name)))
	if info, err := os.Stat(file); err == nil && info.IsDir() {
		file, name = filepath.Join(file, "index.html"), path.Join(name, "index.html")
	}
	data, err := os.ReadFile(file)
	if err != nil {
		http.NotFound(w, r)
		return name, false
	}
	sent := h.side.Host.Send(file)
	w.Header().Set("Content-Type", sent.Type)
	if sent.Encoding != "" {
		w.Header().Set("Content-Encoding", sent.Encoding)
	}
	model.Host{Isolation: true}.Isolate(w.Header())
	http.ServeContent(w, r, "", time.Time{}, bytes.NewReader(data))
	return name, true
}

// settled waits until the game asks for nothing more.
func (h *playHost) settled(ctx context.Context) error {
	end := time.After(longest)
	tick := time.NewTicker(100 * time.Millisecond)
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-end:
			return nil
		case <-tick.C:
			h.mu.Lock()
			still := h.open == 0 && !h.last.IsZero() && time.Since(h.last) > quiet
			h.mu.Unlock()
			if still {
				return nil
			}
		}
	}
}

func (h *playHost) run() *played {
	h.mu.Lock()
	defer h.mu.Unlock()
	r := &played{}
	for name := range h.failed {
		r.Failed = append(r.Failed, name)
	}
	for name := range h.loaded {
		r.Loaded = append(r.Loaded, name)
	}
	slices.Sort(r.Failed)
	slices.Sort(r.Loaded)
	return r
}

// complaints are the exceptions of a run.
type complaints struct {
	mu   sync.Mutex
	said []string
}

func (c *complaints) hear(ev driver.Event) {
	if e, ok := ev.(driver.Thrown); ok {
		c.mu.Lock()
		defer c.mu.Unlock()
		c.said = append(c.said, e.Message)
	}
}

// list are the exceptions, without the host's address, which differs from run to run.
func (c *complaints) list(address string) []string {
	c.mu.Lock()
	defer c.mu.Unlock()
	var list []string
	for _, s := range c.said {
		if s = strings.ReplaceAll(s, "http://"+address, ""); !slices.Contains(list, s) {
			list = append(list, s)
		}
	}
	return list
}

// drawn reports whether a picture has more than one colour.
func drawn(data []byte) bool {
	picture, _, err := image.Decode(bytes.NewReader(data))
	if err != nil {
		return false
	}
	b := picture.Bounds()
	first := picture.At(b.Min.X, b.Min.Y)
	other := 0
	for y := b.Min.Y; y < b.Max.Y; y += 3 {
		for x := b.Min.X; x < b.Max.X; x += 3 {
			if picture.At(x, y) != first {
				other++
			}
		}
	}
	return other > 20
}

// worsePlayed says what the second run lacks that the first had; nothing where it is as good.
func worsePlayed(before, after *played) []string {
	var list []string
	if extra := len(after.Failed) - len(before.Failed); extra > 0 {
		for _, name := range after.Failed {
			if !slices.Contains(before.Failed, name) {
				list = append(list, "not found: "+name)
			}
		}
	}
	if len(after.Errors) > len(before.Errors) {
		for _, e := range after.Errors {
			if !slices.Contains(before.Errors, e) {
				list = append(list, "exception: "+e)
			}
		}
	}
	if before.Drawn && !after.Drawn {
		list = append(list, "nothing is drawn")
	}
	if missing := len(before.Loaded) - len(after.Loaded); missing > 0 && len(list) == 0 {
		list = append(list, fmt.Sprintf("%d files fewer are loaded", missing))
	}
	return list
}
