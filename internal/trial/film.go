package trial

import (
	"context"
	"errors"
	"fmt"
	"sync"
	"time"

	"havvel/internal/browser"
	"havvel/internal/fault"
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

// Fault tells it.
func (e *NotStarted) Fault() *fault.Error {
	return fault.Tell(e, fault.No, "havvel trial says what it saw instead")
}

// Stills takes pictures (PNG) of the running game while the steps of the trial play, in a window with two pixels of the screen for
// each of CSS.
func (t *Trial) Stills(ctx context.Context, v rulebook.View) ([][]byte, error) {
	var list [][]byte
	err := t.watchOn(ctx, v, 2, func(r *viewer, playing context.Context) error {
		for (playing.Err() == nil || len(list) < fewStills) && ctx.Err() == nil && len(list) < mostStills {
			p, err := r.tab.Picture(ctx)
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
	see := func(picture []byte, at time.Time) {
		mu.Lock()
		defer mu.Unlock()
		if first.IsZero() {
			first = at
		}
		if d := at.Sub(first); d <= length {
			frames = append(frames, Frame{int(d.Milliseconds()), picture})
		}
	}
	err := t.watchOn(ctx, v, 1, func(r *viewer, playing context.Context) error {
		stop, err := r.tab.Watch(ctx, 0, see)
		if err != nil {
			return err
		}
		defer stop()
		pause(playing, length+time.Second)
		return nil
	})
	mu.Lock()
	defer mu.Unlock()
	return frames, err
}

// watchOn starts the game in a window, and does the steps of the trial while watch looks on; playing ends with the steps.
func (t *Trial) watchOn(
	ctx context.Context, v rulebook.View, scale float64, watch func(r *viewer, playing context.Context) error,
) error {
	b, err := browser.Start(ctx, t.Browsers[0])
	if err != nil {
		return err
	}
	defer b.Close()
	r, done, err := t.begin(ctx, b, v, scale)
	if err != nil {
		return err
	}
	defer done()
	r.resting = true
	if err := r.start(ctx); err != nil {
		return browser.Failed(ctx, err)
	}
	if r.seen.Answer == No {
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
		return browser.Failed(ctx, err)
	}
	return ctx.Err()
}
