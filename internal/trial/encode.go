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

	"github.com/chromedp/chromedp"

	"havvel/internal/webm"
)

//go:embed encode.js
var encoder string

// mostPerSecond is how many pictures of a second are kept for a film.
const mostPerSecond = 30

// WebM makes a film of frames (WebM, without sound) with a browser's encoder, of a size and of a length and weight in bytes at most.
func WebM(ctx context.Context, browser string, frames []Frame, width, height int, length time.Duration, limit int64) ([]byte, error) {
	frames = thinned(frames, length)
	if len(frames) < 2 {
		return nil, errors.New("too few pictures came for a film; the game draws too slowly here")
	}
	inside, done := Window(ctx, browser, func(any) {})
	defer done()
	// As long as the browser asks for pictures, it works, however slowly.
	guard := time.AfterFunc(3*answerLimit, done)
	defer guard.Stop()
	// Browsers let only pages from this machine and secure ones encode.
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return nil, fmt.Errorf("a film can't be made without an address on this machine: %w", err)
	}
	server := &http.Server{Handler: film(frames, func() { guard.Reset(3 * answerLimit) }), ReadHeaderTimeout: answerLimit}
	go server.Serve(listener)
	defer server.Close()
	if err := chromedp.Do(inside, chromedp.Navigate("http://"+listener.Addr().String()+"/")); err != nil {
		return nil, broken(ctx, err)
	}
	if err := chromedp.Do(inside, chromedp.Evaluate[chromedp.Void](encoder)); err != nil {
		return nil, broken(ctx, err)
	}
	rate := int64(4_000_000)
	if limit > 0 {
		seconds := max(1, float64(frames[len(frames)-1].MS)/1000)
		rate = min(rate, int64(float64(limit)*8*.8/seconds))
	}
	for try := 0; ; try++ {
		data, err := encode(inside, frames, width, height, rate)
		if err != nil {
			return nil, broken(ctx, err)
		}
		if limit <= 0 || int64(len(data)) <= limit || try == 2 {
			return data, nil
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

// film serves an empty page at /, and frames by their numbers.
func film(frames []Frame, asked func()) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		i, err := strconv.Atoi(r.URL.Path[1:])
		switch {
		case r.URL.Path == "/":
			w.Header().Set("Content-Type", "text/html")
		case err != nil || i < 0 || i >= len(frames):
			http.NotFound(w, r)
		default:
			asked()
			w.Header().Set("Content-Type", "image/jpeg")
			w.Write(frames[i].JPEG)
		}
	}
}

// encode has the page of a film encode its frames, with so many bits a second.
func encode(inside context.Context, frames []Frame, width, height int, rate int64) ([]byte, error) {
	times := make([]int, len(frames))
	for i, f := range frames {
		times[i] = f.MS
	}
	list, err := json.Marshal(times)
	if err != nil {
		return nil, err
	}
	made, err := chromedp.Run(inside, chromedp.Evaluate[struct {
		Codec    string
		Pictures []webm.Picture
	}](fmt.Sprintf("havvelEncode(%s, %d, %d, %d)", list, width, height, rate), chromedp.EvalAwaitPromise))
	if err != nil {
		return nil, err
	}
	return webm.Write(made.Codec, width, height, made.Pictures)
}
