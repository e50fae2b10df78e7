package trial

import (
	"context"
	_ "embed"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"sync"
	"time"

	"github.com/chromedp/cdproto/page"
	"github.com/chromedp/cdproto/runtime"
	"github.com/chromedp/chromedp"

	"havvel/internal/rulebook"
)

// A Frame is one picture of a film.
type Frame struct {
	MS   int // after the first
	JPEG []byte
}

// NotStarted says that the game showed nothing that could be taken.
type NotStarted struct{ View string }

func (e *NotStarted) Error() string {
	return fmt.Sprintf("the game never started in the view %s, so no picture of it was taken", e.View)
}

// Stills takes pictures (PNG) of the running game while the steps of the trial play, in a window with two pixels of the screen for
// each of CSS.
func (t *Trial) Stills(ctx context.Context, v rulebook.View) ([][]byte, error) {
	var list [][]byte
	err := t.watchOn(ctx, v, 2, nil, func(r *viewer, playing context.Context) error {
		for (playing.Err() == nil || len(list) < fewStills) && ctx.Err() == nil && len(list) < mostStills {
			p, err := r.take()
			if err != nil {
				return err
			}
			list = append(list, p)
			pause(ctx, 900*time.Millisecond)
		}
		return nil
	})
	return list, err
}

// fading is how long a loading picture may still be seen once the game started.
const fading = 1200 * time.Millisecond

// fewStills is how many are taken even when the steps are over, on a slow machine.
const fewStills = 6

// mostStills bounds what is kept in memory.
const mostStills = 40

// Film records the running game without sound while the steps of the trial play, for that long at most.
func (t *Trial) Film(ctx context.Context, v rulebook.View, length time.Duration) ([]Frame, error) {
	var mu sync.Mutex
	var frames []Frame
	var first time.Time
	acknowledge := make(chan int64, 64)
	listen := func(ev any) {
		e, ok := ev.(*page.EventScreencastFrame)
		if !ok {
			return
		}
		mu.Lock()
		defer mu.Unlock()
		at := time.Now()
		if first.IsZero() {
			first = at
		}
		if d := at.Sub(first); d <= length {
			frames = append(frames, Frame{int(d.Milliseconds()), e.Data})
		}
		select {
		case acknowledge <- e.SessionID:
		default:
		}
	}
	err := t.watchOn(ctx, v, 1, listen, func(r *viewer, playing context.Context) error {
		quality := int64(92)
		if err := r.call(func(ctx context.Context) error {
			_, err := chromedp.Call(ctx, page.StartScreencast, page.StartScreencastParams{Format: page.StartScreencastFormatJpeg, Quality: &quality})
			return err
		}); err != nil {
			return err
		}
		end := time.After(length + time.Second)
		for {
			select {
			case id := <-acknowledge:
				err := r.call(func(ctx context.Context) error {
					_, err := chromedp.Call(ctx, page.ScreencastFrameAck, page.ScreencastFrameAckParams{SessionID: id})
					return err
				})
				if err != nil {
					return err
				}
			case <-end:
				return nil
			case <-playing.Done():
				return nil
			}
		}
	})
	mu.Lock()
	defer mu.Unlock()
	return frames, err
}

func (r *viewer) call(do func(context.Context) error) error {
	ctx, cancel := context.WithTimeout(r.browser, answerLimit)
	defer cancel()
	return do(ctx)
}

// watchOn starts the game in a window, and does the steps of the trial while watch looks on; playing ends with the steps.
func (t *Trial) watchOn(ctx context.Context, v rulebook.View, scale float64, listen func(any), watch func(r *viewer, playing context.Context) error) error {
	w := newWatcher()
	hear := func(ev any) {
		w.event(ev)
		if listen != nil {
			listen(ev)
		}
	}
	r, done, err := t.begin(ctx, v, w, hear)
	if err != nil {
		return err
	}
	defer done()
	r.scale = scale
	if err := r.call(func(inside context.Context) error { return chromedp.Do(inside, r.size(v.Size[0], v.Size[1])) }); err != nil {
		return broken(ctx, err)
	}
	if err := r.start(ctx); err != nil {
		return broken(ctx, err)
	}
	if !r.seen.Started {
		return &NotStarted{v.Name}
	}
	r.pause(ctx, fading)
	playing, over := context.WithCancel(ctx)
	defer over()
	watched := make(chan error, 1)
	go func() { watched <- watch(r, playing) }()
	err = r.steps(ctx)
	r.pause(ctx, t.Watch)
	over()
	if err = errors.Join(err, <-watched); err != nil {
		return broken(ctx, err)
	}
	return ctx.Err()
}

//go:embed record.js
var recorder string

// WebM makes a film of frames (WebM, without sound), in a browser, of a size and of a length and weight in bytes at most. It takes
// as long as the film.
func WebM(ctx context.Context, browser string, frames []Frame, width, height int, length time.Duration, limit int64) ([]byte, error) {
	if len(frames) < 2 {
		return nil, errors.New("too few pictures came for a film; the game draws too slowly here")
	}
	inside, done := Window(ctx, browser, func(any) {})
	defer done()
	guard := time.AfterFunc(length+6*answerLimit, done)
	defer guard.Stop()
	if err := chromedp.Do(inside, chromedp.Navigate("about:blank")); err != nil {
		return nil, broken(ctx, err)
	}
	if err := chromedp.Do(inside, chromedp.Evaluate[chromedp.Void](recorder)); err != nil {
		return nil, broken(ctx, err)
	}
	for _, f := range frames {
		if time.Duration(f.MS)*time.Millisecond > length {
			break
		}
		line, err := json.Marshal([]any{f.MS, base64.StdEncoding.EncodeToString(f.JPEG)})
		if err != nil {
			return nil, err
		}
		if err := chromedp.Do(inside, chromedp.Evaluate[chromedp.Void]("havvelFrames.push("+string(line)+")")); err != nil {
			return nil, broken(ctx, err)
		}
	}
	seconds := max(1, min(length.Seconds(), float64(frames[len(frames)-1].MS)/1000))
	rate, wait := int64(4_000_000), true
	if limit > 0 {
		rate = min(rate, int64(float64(limit)*8*.8/seconds))
	}
	for try := 0; ; try++ {
		text, err := chromedp.Run(inside, chromedp.Evaluate[string](fmt.Sprintf("havvelRecord(%d, %d, %d)", width, height, rate), func(p *runtime.EvaluateParams) { p.AwaitPromise = &wait }))
		if err != nil {
			return nil, broken(ctx, err)
		}
		data, err := base64.StdEncoding.DecodeString(text)
		if err != nil || len(data) == 0 {
			return nil, broken(ctx, errors.New("it recorded nothing"))
		}
		if limit <= 0 || int64(len(data)) <= limit || try == 2 {
			return data, nil
		}
		rate = rate * limit / int64(len(data)) * 8 / 10
	}
}
