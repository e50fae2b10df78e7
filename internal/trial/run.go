package trial

import (
	"bytes"
	"context"
	_ "embed"
	_ "image/png" // what the browser gives
	"sync/atomic"
	"time"

	"github.com/chromedp/cdproto/cdp"
	"github.com/chromedp/cdproto/emulation"
	"github.com/chromedp/cdproto/log"
	"github.com/chromedp/cdproto/network"
	"github.com/chromedp/cdproto/page"
	"github.com/chromedp/cdproto/runtime"
	"github.com/chromedp/chromedp"

	"havvel/internal/finding"
	"havvel/internal/rulebook"
	"havvel/internal/serve"
)

//go:embed probe.js
var probe string

// state is what the probe tells of a page.
type state struct {
	Frames, Lost   int
	Played         int     // frames in which it drew
	Pattern        int     // the kinds of calls that a frame makes
	PatternAt, Now float64 // milliseconds of the frame's own clock: since when it draws so, and now
	Making         string  // what is being made of files that have come; "" for nothing
	Drawn, Cleared int     // calls
	Wasm, Heap     int64
	Ready          bool
	VW, VH, SW, SH float64
	DPR            float64
	Canvas         *struct {
		X, Y, W, H, BW, BH float64
		Fitted             bool
		Handed             bool // to a worker, whose calls the probe doesn't see
	}
}

// A viewer runs a build in one window.
type viewer struct {
	trial   *Trial
	view    rulebook.View
	seen    *View
	watch   *watcher
	browser context.Context
	scale   float64 // pixels of the screen for each of CSS, on a desktop; default: 1
	sight   sight
	pulse   *pulse
	casting atomic.Bool // a screencast tells what is to be seen
	played  bool        // the steps were done
	resting bool        // a picture at rest is enough: nothing is pressed to tell whether it is the game
}

// answerLimit is how long the browser may take for one answer.
const answerLimit = 10 * time.Second

func (t *Trial) run(ctx context.Context, v rulebook.View) (*View, error) {
	w := newWatcher()
	r, done, err := t.begin(ctx, v, w, w.event)
	if err != nil {
		return nil, err
	}
	defer done()
	if err := r.play(ctx); err != nil {
		return nil, broken(ctx, err)
	}
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.crashed {
		w.add(
			finding.Finding{
				ID:      "trial-start",
				Message: "the page crashed; most often it took more memory than the browser gives",
				Fix:     "havvel look shows what takes memory",
			},
		)
	}
	r.seen.Heard, r.seen.Requests, r.seen.Problems = w.heard, w.all(), append(r.seen.Problems, w.problems...)
	return r.seen, nil
}

// begin serves the build, and opens a window on it, of which listen hears. done closes both.
func (t *Trial) begin(ctx context.Context, v rulebook.View, w *watcher, listen func(any)) (r *viewer, done func(), err error) {
	server, err := serve.Start(serve.Config{Build: t.Build, Title: v.Name, Rules: t.Rules, Heard: w.hear, Served: w.serve, Bare: true})
	if err != nil {
		return nil, nil, err
	}
	r = &viewer{trial: t, view: v, watch: w, seen: &View{Name: v.Name, Width: v.Size[0], Height: v.Size[1], Touch: v.Touch}}
	inside, end := Window(ctx, t.Browser, func(ev any) {
		if e, ok := ev.(*page.EventScreencastFrame); ok && r.casting.Load() {
			go r.see(ctx, e)
			return
		}
		listen(ev)
	})
	r.browser = inside
	done = func() { end(); server.Close() }
	guard := time.AfterFunc(3*answerLimit, end) // the window closes with the context that opens it, which so has no limit of its own
	defer guard.Stop()
	err = chromedp.Do(inside, r.size(v.Size[0], v.Size[1]))
	if err == nil {
		guard.Stop()
		err = r.open(server)
	}
	if err != nil {
		done()
		return nil, nil, broken(ctx, err)
	}
	go w.closeDialogs(inside)
	return r, done, nil
}

// open asks for the game, in the frame of a portal's page where a portal is imitated.
func (r *viewer) open(server *serve.Server) error {
	address := server.Game
	if r.trial.Rules != nil {
		address = server.Page
	}
	ctx, cancel := context.WithTimeout(r.browser, 3*answerLimit)
	defer cancel()
	_, err := chromedp.Call(ctx, page.AddScriptToEvaluateOnNewDocument, page.AddScriptToEvaluateOnNewDocumentParams{Source: probe})
	if err == nil {
		_, err = chromedp.Call(ctx, network.Enable, network.EnableParams{})
	}
	if err == nil {
		_, err = chromedp.Call(ctx, log.Enable, cdp.Empty{})
	}
	if err != nil {
		return err
	}
	r.watch.mu.Lock()
	r.watch.base, r.watch.page = server.Game, server.Page
	r.watch.mu.Unlock()
	r.pulse = newPulse(processOf(r.browser))
	r.seen.began = time.Now()
	_, err = chromedp.Call(ctx, page.Navigate, page.NavigateParams{URL: address})
	return err
}

// processOf is that of the browser that a window is in; 0 where it isn't known.
func processOf(window context.Context) int {
	if c := chromedp.FromContext(window); c != nil && c.Browser != nil && c.Browser.Process() != nil {
		return c.Browser.Process().Pid
	}
	return 0
}

func (r *viewer) size(width, height int) chromedp.Action[chromedp.Void] {
	options := []chromedp.EmulateViewportOption{chromedp.EmulateScale(max(1, r.scale))}
	if r.view.Touch {
		orientation := emulation.ScreenOrientationTypePortraitPrimary
		if width > height {
			orientation = emulation.ScreenOrientationTypeLandscapePrimary
		}
		options = []chromedp.EmulateViewportOption{
			chromedp.EmulateScale(2),
			chromedp.EmulateMobile,
			chromedp.EmulateTouch,
			chromedp.EmulateOrientation(orientation, 0),
		}
	}
	return chromedp.EmulateViewport(int64(width), int64(height), options...)
}

// play watches the game from its first picture to the end of the trial.
func (r *viewer) play(ctx context.Context) error {
	if err := r.start(ctx); err != nil || r.seen.Answer == No {
		return err
	}
	last, err := r.frames(ctx)
	if err != nil {
		return err
	}
	r.seen.Fit = fitOf(last)
	first, err := r.take() // a second later, since a loading picture may still fade
	if err != nil {
		return err
	}
	if len(r.seen.Pictures) == 0 {
		r.seen.Pictures = append(r.seen.Pictures, Picture{"start", int(time.Since(r.seen.began).Milliseconds()), first})
	}
	if err := r.turn(ctx); err != nil {
		return err
	}
	second, err := r.take()
	if err != nil {
		return err
	}
	r.light(first, second, last)
	if !r.played {
		if err := r.steps(ctx); err != nil {
			return err
		}
	}
	r.pause(ctx, r.trial.Watch-time.Since(r.seen.began)+time.Duration(r.seen.StartMS)*time.Millisecond)
	if last, err = r.ask(); err != nil {
		return err
	}
	r.seen.Heap, r.seen.Wasm, r.seen.Lost = last.Heap, last.Wasm, last.Lost
	if last.Lost > 0 {
		r.problem(
			"trial-lost",
			"the drawing context was lost; the picture stays black from then on",
			"handle webglcontextlost, and take less memory for pictures",
		)
	}
	return ctx.Err()
}

func pause(ctx context.Context, d time.Duration) {
	select {
	case <-ctx.Done():
	case <-time.After(d):
	}
}

// between is the time between two looks at the game's memory.
const between = 500 * time.Millisecond

// pause waits, and looks at the game's memory meanwhile.
func (r *viewer) pause(ctx context.Context, d time.Duration) {
	for end := time.Now().Add(d); ctx.Err() == nil && time.Until(end) > 0; {
		pause(ctx, min(between, time.Until(end)))
		r.ask() // a page that doesn't answer is found when its answer is needed
	}
}

func (r *viewer) problem(id, message, fix string) {
	r.seen.Problems = append(r.seen.Problems, finding.Finding{ID: id, Message: message, Fix: fix})
}

// ask asks the page how it is.
func (r *viewer) ask() (*state, error) {
	inside := r.watch.context()
	if inside == 0 { // the page has no frame yet
		return &state{}, nil
	}
	ctx, cancel := context.WithTimeout(r.browser, answerLimit)
	defer cancel()
	s, err := chromedp.Run(
		ctx,
		chromedp.Evaluate[*state]("window.havvelProbe && havvelProbe()", func(p *runtime.EvaluateParams) { p.ContextID = inside }),
	)
	if err != nil && inside != r.watch.context() { // it went while it was asked
		return &state{}, nil
	}
	if err == nil && s == nil {
		s = &state{}
	}
	if err == nil {
		r.remember(s)
	}
	return s, err
}

// remember keeps how much memory the game takes, now and then.
func (r *viewer) remember(s *state) {
	at := int(time.Since(r.seen.began).Milliseconds())
	list := r.seen.Memory
	if len(list) > 0 && at-list[len(list)-1].MS < int(between.Milliseconds())/2 {
		return
	}
	r.seen.Memory = append(list, Memory{at, s.Heap, s.Wasm})
}

// unseen reports whether the probe can't tell if the page draws.
func (s *state) unseen() bool { return s.Canvas == nil || s.Canvas.Handed }

func (r *viewer) take() ([]byte, error) {
	ctx, cancel := context.WithTimeout(r.browser, 2*answerLimit)
	defer cancel()
	quick := true
	shot, err := chromedp.Call(
		ctx,
		page.CaptureScreenshot,
		page.CaptureScreenshotParams{Format: page.CaptureScreenshotFormatPng, OptimizeForSpeed: &quick},
	)
	return shot.Data, err
}

// picture takes a picture, and keeps it unless it has no name.
func (r *viewer) picture(name string) ([]byte, error) {
	p, err := r.take()
	if err == nil && name != "" {
		r.seen.Pictures = append(r.seen.Pictures, Picture{name, int(time.Since(r.seen.began).Milliseconds()), p})
	}
	return p, err
}

// frames counts frames for a while.
func (r *viewer) frames(ctx context.Context) (*state, error) {
	before, err := r.ask()
	if err != nil {
		return nil, err
	}
	at := time.Now()
	pause(ctx, time.Second)
	after, err := r.ask()
	if err == nil {
		drawn := after.Played - before.Played
		if after.unseen() {
			drawn = after.Frames - before.Frames
		}
		r.seen.Frames = float64(drawn) / time.Since(at).Seconds()
	}
	return after, err
}

// light judges two pictures of the running game.
func (r *viewer) light(first, second []byte, s *state) {
	now := look(second)
	switch {
	case r.seen.Answer == Yes && !now.visible() && !look(first).visible():
		words := "dark"
		if now.brights >= leastLight {
			words = "of one colour"
		}
		r.problem(
			"trial-black",
			"the picture stays "+words+", though the game runs",
			"look at the console's first error; most often a picture or shader could not be loaded",
		)
	case bytes.Equal(first, second) && s.Canvas != nil && (s.Canvas.Handed || s.Drawn > 0):
		r.problem(
			"trial-still",
			"two pictures, more than a second apart, are the same",
			"look whether the game stands still, or waits for a press",
		)
	}
}

// look is what can be seen in one picture.
func look(picture []byte) *sight {
	s := &sight{}
	s.look(picture, time.Now())
	return s
}

// turn turns the window, and turns it back.
func (r *viewer) turn(ctx context.Context) error {
	w, h := r.view.Size[0]*3/4, r.view.Size[1] // a window on a desktop is made narrower
	if r.view.Touch {
		w, h = r.view.Size[1], r.view.Size[0]
	}
	resize := func(width, height int) error {
		inside, cancel := context.WithTimeout(r.browser, answerLimit)
		defer cancel()
		return chromedp.Do(inside, r.size(width, height))
	}
	if err := resize(w, h); err != nil {
		return err
	}
	s, err := r.settled(ctx)
	if err != nil {
		return err
	}
	fit := fitOf(s)
	r.seen.Turned = &fit
	if err := resize(r.view.Size[0], r.view.Size[1]); err != nil {
		return err
	}
	if len(r.trial.Steps) > 0 { // otherwise nobody presses anything
		_, err = r.settled(ctx)
	}
	return err
}

// settled waits until the page has drawn a few frames in its new size.
func (r *viewer) settled(ctx context.Context) (*state, error) {
	first, err := r.ask()
	for until := time.Now().Add(2 * time.Second); err == nil; {
		pause(ctx, 150*time.Millisecond)
		var s *state
		if s, err = r.ask(); err == nil && (s.Frames >= first.Frames+2 || time.Now().After(until)) {
			return s, nil
		}
	}
	return nil, err
}
