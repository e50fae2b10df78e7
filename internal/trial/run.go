package trial

import (
	"bytes"
	"context"
	_ "embed"
	"errors"
	"fmt"
	_ "image/png" // what the browser gives
	"slices"
	"strings"
	"sync"
	"time"

	"havvel/internal/browser"
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
	Styled         bool    // all that moves are a stylesheet's animations without end
	PatternAt, Now float64 // milliseconds of the frame's own clock: since when it draws so, and now
	Making         string  // what is being made of files that have come; "" for nothing
	Drawn, Cleared int     // calls
	Wasm, Heap     int64
	Graphics       float64 // bytes of WebGL's textures and buffers
	Nodes          int     // of the page
	Ready          bool
	NoGL           bool // WebGL was asked for on a canvas that had no other context, and not given
	VW, VH, SW, SH float64
	DPR            float64
	Zoom           float64 // window's pixels for each of the page: one made for wide windows is shown smaller on a phone
	Canvas         *canvasState
}

// extent is the size of the window in pixels of the page, which is what presses are given in.
func (v *viewer) extent(s *state) (width, height float64) {
	width, height = float64(v.view.Size[0]), float64(v.view.Size[1])
	if s == nil || s.Zoom <= 0 {
		return width, height
	}
	return width / s.Zoom, height / s.Zoom
}

// A canvasState is where the largest canvas is, and how many pixels it has.
type canvasState struct {
	X, Y, W, H, BW, BH float64
	Fit                string // as CSS has it: object-fit
	Handed             bool   // to a worker, whose calls the probe doesn't see
}

// A viewer runs a build in one window.
type viewer struct {
	trial    *Trial
	view     rulebook.View
	seen     *View
	watch    *watcher
	tab      browser.Tab
	scale    float64 // pixels of the screen for each of CSS, on a desktop; 0 for 1
	sight    sight
	pulse    *pulse
	mu       sync.Mutex    // of what an answer changes
	answered mark          // when the page answered last
	played   bool          // the steps were done
	pressed  time.Duration // when something was pressed to tell whether it has started; 0 for never
	eager    bool          // something is pressed as soon as the picture may be at rest, and once more where nothing came of it
	near     bool          // the mouse is where it will press
	resting  bool          // a picture at rest is enough: nothing is pressed to tell whether it is the game
}

func (t *Trial) run(ctx context.Context, b browser.Browser, v rulebook.View) (*View, error) {
	r, done, err := t.begin(ctx, b, v, 0)
	if err != nil {
		return nil, err
	}
	defer done()
	r.eager = true
	if err := r.play(ctx); err != nil && !r.fell(ctx) && !r.froze(ctx, err) {
		return nil, browser.Failed(ctx, err)
	}
	r.finish()
	return r.seen, nil
}

// begin serves the build, and opens a window on it. done closes both.
func (t *Trial) begin(ctx context.Context, b browser.Browser, v rulebook.View, scale float64) (r *viewer, done func(), err error) {
	return t.beginWith(ctx, b, v, scale, "delete window.havvelInput;", nil)
}

// serve serves the build, unless a real host does: the address that is opened, the game's folder, and the page around it.
func (t *Trial) serve(v rulebook.View) (address, game, page string, end func(), err error) {
	if t.Page != "" {
		if strings.HasPrefix(t.Game, t.Page) || strings.HasPrefix(t.Page, t.Game) {
			return t.Page, t.Game, "", func() {}, nil // there is no page around it
		}
		return t.Page, t.Game, t.Page, func() {}, nil
	}
	server, err := serve.Start(serve.Config{Build: t.Build, Title: v.Name, Rules: t.Rules, Bare: true, At: t.At, Front: t.Front})
	if err != nil {
		return "", "", "", nil, err
	}
	address = server.Game
	switch {
	case t.Front != nil:
		return server.Front, server.Game, "", server.Close, nil
	case t.Rules != nil:
		address = server.Page // the game is in a frame of a portal's page
	}
	return address, server.Game, server.Page, server.Close, nil
}

// beginWith does so with more of a probe; ready is told of the viewer before there is a window.
func (t *Trial) beginWith(
	ctx context.Context, b browser.Browser, v rulebook.View, scale float64, more string, ready func(*viewer),
) (r *viewer, done func(), err error) {
	address, game, page, end, err := t.serve(v)
	if err != nil {
		return nil, nil, err
	}
	r = &viewer{trial: t, view: v, scale: scale, watch: newWatcher(game, page)}
	if page == "" && address != game {
		r.watch.front = address
	}
	r.seen = viewOf(v)
	if ready != nil {
		ready(r)
	}
	w := r.window(r.watch.base)
	w.Probe += "\n" + more
	if r.tab, err = b.Open(ctx, w, r.watch.event); err != nil {
		end()
		return nil, nil, err
	}
	r.pulse = newPulse(r.tab.Process())
	done = func() { r.pulse.end(); r.tab.Close(); end() }
	r.unset()
	r.seen.began = r.watch.begin()
	if err := r.tab.Go(ctx, address); err != nil {
		done()
		return nil, nil, browser.Failed(ctx, err)
	}
	return r, done, nil
}

// resize gives the window another size.
func (r *viewer) resize(ctx context.Context, width, height int) error {
	w := r.window("")
	w.Width, w.Height = width, height
	return r.tab.Size(ctx, w)
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
	first, err := r.tab.Picture(ctx) // a second later, since a loading picture may still fade
	if err != nil {
		return err
	}
	if len(r.seen.Pictures) == 0 {
		r.seen.Pictures = append(r.seen.Pictures, Picture{"start", int(time.Since(r.seen.began).Milliseconds()), first})
		r.firstScreen(first)
	}
	r.seen.Fit = fitOf(last, first)
	if err := r.turn(ctx); err != nil {
		return err
	}
	second, err := r.tab.Picture(ctx)
	if err != nil {
		return err
	}
	r.light(first, second, last)
	if !r.played {
		if err := r.steps(ctx); err != nil {
			return err
		}
	}
	if err := r.afterwards(ctx); err != nil {
		return err
	}
	r.pause(ctx, r.trial.Watch-time.Since(r.seen.began)+time.Duration(r.seen.StartMS)*time.Millisecond)
	if last, err = r.ask(ctx); err != nil {
		return err
	}
	r.paces(ctx)
	r.seen.Heap, r.seen.Wasm, r.seen.Lost = last.Heap, last.Wasm, last.Lost
	if last.Lost > 0 && !r.seen.under("context-lost") {
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
		r.ask(ctx) // a page that doesn't answer is found when its answer is needed
	}
}

func (r *viewer) note(message string) {
	r.seen.Problems = append(r.seen.Problems, finding.Finding{
		ID: "trial-step", Level: finding.Note, Message: message, Fix: "look at the report's pictures, and accept them",
	})
}

func (r *viewer) problem(id, message, fix string) {
	r.seen.Problems = append(r.seen.Problems, finding.Finding{ID: id, Message: message, Fix: fix})
}

// ask asks the page how it is.
func (r *viewer) ask(ctx context.Context) (*state, error) {
	frame := r.watch.frame()
	if frame == "" { // the page has no frame yet
		return &state{}, nil
	}
	s := &state{}
	err := r.tab.Evaluate(ctx, frame, "window.havvelProbe && havvelProbe()", s)
	if errors.Is(err, browser.ErrGone) { // it went while it was asked
		return &state{}, nil
	}
	if err == nil {
		r.mu.Lock()
		defer r.mu.Unlock()
		r.remember(s)
		r.answered = r.pulse.now()
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
	r.seen.Memory = append(list, Memory{at, s.Heap, s.Wasm, int64(s.Graphics), s.Nodes})
}

// unseen reports whether the probe can't tell if the page draws.
func (s *state) unseen() bool { return s.Canvas == nil || s.Canvas.Handed }

// picture takes a picture, and keeps it unless it has no name.
func (r *viewer) picture(ctx context.Context, name string) ([]byte, error) {
	p, err := r.tab.Picture(ctx)
	if err == nil && name != "" {
		r.seen.Pictures = append(r.seen.Pictures, Picture{name, int(time.Since(r.seen.began).Milliseconds()), p})
	}
	return p, err
}

// firstScreen takes a picture as the view's first screen.
func (r *viewer) firstScreen(picture []byte) {
	if f, ok := screenOf(picture, &r.sight); ok {
		r.seen.first = &f
	}
}

// frames counts frames for a while; where something was pressed, the time that it took to show is enough to count them later.
func (r *viewer) frames(ctx context.Context) (*state, error) {
	if r.pressed != 0 {
		return r.ask(ctx)
	}
	before, err := r.ask(ctx)
	if err != nil {
		return nil, err
	}
	at := time.Now()
	pause(ctx, time.Second)
	after, err := r.ask(ctx)
	if err == nil {
		drawn := after.Played - before.Played
		if after.unseen() {
			drawn = after.Frames - before.Frames
		}
		r.seen.Frames = float64(drawn) / time.Since(at).Seconds()
	}
	return after, err
}

// paces takes how many frames the game drew in each whole second since it started, or something was pressed on its title, and how they were
// drawn.
func (r *viewer) paces(ctx context.Context) {
	var list [][2]float64
	since := fmt.Sprintf("havvelPaces(%d)", max(r.seen.StartMS, int(r.pressed.Milliseconds())))
	if r.tab.Evaluate(ctx, r.watch.frame(), since, &list) != nil {
		return // a page that went has no more to say
	}
	r.tab.Evaluate(ctx, r.watch.frame(), "havvelRenderer()", &r.seen.Renderer) // likewise
	which := 0
	if s, err := r.ask(ctx); err == nil && s.unseen() {
		which = 1
	}
	var paces []float64
	for _, p := range list {
		paces = append(paces, p[which])
	}
	if len(paces) == 0 {
		r.seen.Worst = r.seen.Frames
		return
	}
	slices.Sort(paces)
	r.seen.Frames, r.seen.Worst = paces[len(paces)/2], paces[0]
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
	if err := r.resize(ctx, w, h); err != nil {
		return err
	}
	s, err := r.settled(ctx)
	if err != nil {
		return err
	}
	turned, err := r.picture(ctx, "turned")
	if err != nil {
		return err
	}
	fit := fitOf(s, turned)
	r.seen.Turned = &fit
	if err := r.resize(ctx, r.view.Size[0], r.view.Size[1]); err != nil {
		return err
	}
	if len(r.trial.Steps) > 0 { // otherwise nobody presses anything
		_, err = r.settled(ctx)
	}
	return err
}

// settled waits until the page has drawn a few frames in its new size.
func (r *viewer) settled(ctx context.Context) (*state, error) {
	first, err := r.ask(ctx)
	for until := time.Now().Add(2 * time.Second); err == nil; {
		pause(ctx, 150*time.Millisecond)
		var s *state
		if s, err = r.ask(ctx); err == nil && (s.Frames >= first.Frames+2 || time.Now().After(until)) {
			return s, nil
		}
	}
	return nil, err
}
