package trial

import (
	"context"
	_ "embed"
	"encoding/json"
	"errors"
	"fmt"
	"net"
	"net/http"
	"strconv"
	"time"

	"havvel/internal/browser"
	"havvel/internal/webm"
)

//go:embed encode.js
var encoder string

// mostPerSecond is how many pictures of a second are kept for a film.
const mostPerSecond = 30

const (
	silence     = 30 * time.Second // after which a browser that asks for no picture has stopped
	longestFilm = 30 * time.Minute // that making one may take
)

// WebM makes a film of frames (WebM, without sound) with a browser's encoder, of a size and of a length and weight in bytes at most.
func WebM(ctx context.Context, program string, frames []Frame, width, height int, length time.Duration, limit int64) ([]byte, error) {
	frames = thinned(frames, length)
	if len(frames) < 2 {
		return nil, errors.New("too few pictures came for a film; the game draws too slowly here")
	}
	parts := make([]part, len(frames))
	for i, f := range frames {
		parts[i] = part{"image/jpeg", f.JPEG}
	}
	var data []byte
	err := inPage(ctx, program, browser.Window{Width: width, Height: height}, parts, func(ctx context.Context, tab browser.Tab) (err error) {
		data, err = within(ctx, tab, frames, width, height, limit)
		return err
	})
	return data, err
}

// FirstPicture is what a film of a media type shows first, as PNG, read by a browser's decoder; nil where the browser says that it can't
// read the film.
func FirstPicture(ctx context.Context, program, kind string, film []byte) ([]byte, error) {
	var picture []byte
	shown := browser.Window{Width: 64, Height: 64}
	err := inPage(ctx, program, shown, []part{{kind, film}}, func(ctx context.Context, tab browser.Tab) error {
		return tab.Evaluate(ctx, "", "havvelFirst('/0')", &picture)
	})
	return picture, err
}

// A part is something that a page on this machine gets by its number.
type part struct {
	kind string // media type
	data []byte
}

// inPage has a page at work that has the functions of encode.js and may ask for parts.
func inPage(ctx context.Context, program string, w browser.Window, parts []part, work func(context.Context, browser.Tab) error) error {
	b, err := browser.Start(ctx, program)
	if err != nil {
		return err
	}
	defer b.Close()
	tab, err := b.Open(ctx, w, func(browser.Event) {})
	if err != nil {
		return err
	}
	defer tab.Close()
	// As long as the browser asks for pictures, it works, however slowly.
	whole := ctx
	ctx, done := context.WithTimeout(ctx, longestFilm)
	defer done()
	guard := time.AfterFunc(silence, done)
	defer guard.Stop()
	// Browsers let only pages from this machine and secure ones encode.
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return fmt.Errorf("a film can't be made or read without an address on this machine: %w", err)
	}
	server := &http.Server{Handler: serveParts(parts, func() { guard.Reset(3 * silence) }), ReadHeaderTimeout: silence}
	go server.Serve(listener)
	defer server.Close()
	if err = ready(ctx, tab, "http://"+listener.Addr().String()+"/"); err == nil {
		err = work(ctx, tab)
	}
	if err != nil {
		return browser.Failed(whole, err)
	}
	return nil
}

// ready opens the page from which the parts come, and gives it the functions.
func ready(ctx context.Context, tab browser.Tab, address string) error {
	if err := tab.Go(ctx, address); err != nil {
		return err
	}
	for here := ""; here != address; pause(ctx, often) { // the empty page before it has none
		if err := tab.Evaluate(ctx, "", "document.readyState === 'complete' ? location.href : ''", &here); err != nil && err != browser.ErrGone {
			return err
		}
	}
	return tab.Evaluate(ctx, "", "eval("+strconv.Quote(encoder)+"), 0", nil)
}

// within encodes frames to no more than some bytes, if three tries suffice; 0 for any weight.
func within(ctx context.Context, tab browser.Tab, frames []Frame, width, height int, limit int64) ([]byte, error) {
	rate := int64(4_000_000)
	if limit > 0 {
		seconds := max(1, float64(frames[len(frames)-1].MS)/1000)
		rate = min(rate, int64(float64(limit)*8*.8/seconds))
	}
	for try := 0; ; try++ {
		data, err := encode(ctx, tab, frames, width, height, rate)
		if err != nil || limit <= 0 || int64(len(data)) <= limit || try == 2 {
			return data, err
		}
		rate = rate * limit / int64(len(data)) * 8 / 10
	}
}

// thinned leaves out what comes after length, and frames that follow too fast.
func thinned(frames []Frame, length time.Duration) (kept []Frame) {
	next := 0
	for _, f := range frames {
		if time.Duration(f.MS)*time.Millisecond > length {
			break
		}
		if f.MS >= next {
			kept = append(kept, f)
			next = f.MS + 1000/mostPerSecond - 3 // clocks are not that exact
		}
	}
	return kept
}

// serveParts serves an empty page at /, and parts by their numbers.
func serveParts(parts []part, asked func()) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		i, err := strconv.Atoi(r.URL.Path[1:])
		switch {
		case r.URL.Path == "/":
			w.Header().Set("Content-Type", "text/html")
		case err != nil || i < 0 || i >= len(parts):
			http.NotFound(w, r)
		default:
			asked()
			w.Header().Set("Content-Type", parts[i].kind)
			w.Write(parts[i].data)
		}
	}
}

// encode has the page of a film encode its frames, with so many bits a second.
func encode(ctx context.Context, tab browser.Tab, frames []Frame, width, height int, rate int64) ([]byte, error) {
	times := make([]int, len(frames))
	for i, f := range frames {
		times[i] = f.MS
	}
	list, err := json.Marshal(times)
	if err != nil {
		return nil, err
	}
	start := fmt.Sprintf(`(window.havvelMade = null, havvelEncode(%s, %d, %d, %d).then((film) => { havvelMade = { film }; },
		(e) => { havvelMade = { failed: String(e) }; }), 0)`, list, width, height, rate)
	if err := tab.Evaluate(ctx, "", start, nil); err != nil {
		return nil, err
	}
	var made struct {
		Film *struct {
			Codec    string
			Pictures []webm.Picture
		}
		Failed string
	}
	for made.Film == nil && made.Failed == "" { // it takes longer than a browser may for one answer
		pause(ctx, often)
		if err := tab.Evaluate(ctx, "", "havvelMade || {}", &made); err != nil {
			return nil, err
		}
	}
	if made.Failed != "" {
		return nil, errors.New(made.Failed)
	}
	return webm.Write(made.Film.Codec, width, height, made.Film.Pictures)
}
