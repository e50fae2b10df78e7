package trial

import (
	"context"
	"fmt"
	"time"

	"havvel/internal/browser"
)

// tell has a press tell whether the game has started; where the trial has steps, they do so.
func (r *viewer) tell(ctx context.Context, s *starting, last answered) error {
	err := r.approach(ctx)
	if err != nil {
		return err
	}
	words, _ := r.words(ctx)
	failed := r.moment(last).Failure
	begun := time.Now()
	if r.pressed == 0 {
		r.pressed = begun.Sub(r.seen.began)
	}
	before, turned := r.sight.since(begun.Add(-forAPress)), r.sight.turned(begun.Add(-while))
	led := "" // the words to which a press led at once
	if len(r.trial.Steps) > 0 {
		r.played = true
		err = r.steps(ctx)
	} else {
		led, err = r.pressSomething(ctx, words)
	}
	if err != nil {
		return err
	}
	until := begun.Add(forAPress)
	if first := r.seen.began.Add(r.pressed + 2*forAPress); !s.Eager && first.After(until) {
		until = first
	}
	r.waitFor(ctx, begun, until, led != "")
	now := max(r.sight.since(begun), r.settle(ctx))
	state, err := r.ask(ctx)
	if err != nil {
		return err
	}
	woke := state.Pattern != last.state.Pattern && state.Pattern != 0 || turned(begun)
	if !woke && (now < pressed || state.Styled) {
		woke = r.reworded(ctx, words, led)
	}
	m := r.moment(answered{state, nil, time.Now()})
	m.Broke = r.broke(ctx, failed, m.Failure)
	s.after(m, before, now, woke)
	return ctx.Err()
}

// approach takes the picture of the game before anything is pressed, and then moves the mouse to where it will press: what changes because
// the mouse is there tells nothing.
func (r *viewer) approach(ctx context.Context) error {
	if r.near {
		return nil
	}
	r.near = true
	p, err := r.picture(ctx, "start")
	if err != nil {
		return err
	}
	r.firstScreen(p)
	if r.view.Touch || len(r.trial.Steps) > 0 {
		r.sight.look(p, time.Now()) // the next picture of its kind is compared with this one
		return nil
	}
	at, before := r.controls(ctx)[0], time.Now()
	if err := r.tab.Mouse(ctx, browser.Mouse{Motion: browser.Move, X: at[0], Y: at[1]}); err != nil {
		return err
	}
	pause(ctx, hovered)
	r.lookNow(ctx)
	r.sight.dismiss(before)
	return nil
}

// waitFor waits for what a press leads to; less long where something has come of it.
func (r *viewer) waitFor(ctx context.Context, begun, until time.Time, led bool) {
	seen := r.sight.many()
	for ; ctx.Err() == nil; pause(ctx, often) {
		came := led || r.sight.many() > seen+2 || r.sight.since(begun) >= pressed
		if now := time.Now(); now.After(until) || now.Sub(begun) > forAPress && came {
			break
		}
	}
	if r.sight.many() == seen { // nothing came by itself
		r.lookNow(ctx)
	}
}

// settle waits until all has come that a press made the page ask for, unless the picture lives meanwhile, and returns the share of the
// window that changed last.
func (r *viewer) settle(ctx context.Context) float64 {
	_, begun := r.pulse.beat()
	from := time.Now()
	for waited := false; ctx.Err() == nil; pause(ctx, often) {
		work, ended, _ := r.watch.work(r.seen.began)
		_, own := r.pulse.beat()
		settled := work == "" && time.Since(r.seen.began)-ended >= settledAfter
		if settled && !waited {
			return 0
		}
		if settled || r.sight.since(from) >= alive || own-begun >= deadFor || time.Since(from) >= patience*deadFor {
			r.lookNow(ctx)
			return r.sight.since(time.Now().Add(-forAPress))
		}
		waited = true
	}
	return 0
}

// lookNow takes a picture of the window. One that can't be taken tells nothing.
func (r *viewer) lookNow(ctx context.Context) {
	if p, err := r.tab.Picture(ctx); err == nil {
		r.sight.look(p, time.Now())
	}
}

// broke reports whether something failed for good after a press, and nothing moves from then on.
func (r *viewer) broke(ctx context.Context, before, after *failure) bool {
	if after == nil || !after.Lasting || before != nil && before.Words == after.Words {
		return false
	}
	r.lookNow(ctx) // the next picture of its kind is compared with this one
	from := time.Now()
	pause(ctx, forAPress)
	r.lookNow(ctx)
	return r.sight.since(from) < motion
}

// words are those that the page shows; ok is false where it doesn't answer.
func (r *viewer) words(ctx context.Context) (words string, ok bool) {
	err := r.tab.Evaluate(ctx, r.watch.frame(), "window.havvelWords ? havvelWords().slice(0, 20000) : ''", &words)
	return words, err == nil
}

// reworded reports whether a press led to other words, or to none, and those stay: words that change all the time count something. Those
// to which it led at once have stayed for as long as a press takes to show.
func (r *viewer) reworded(ctx context.Context, before, led string) bool {
	now, ok := r.words(ctx)
	if !ok || now == before {
		return false
	}
	if now == led && led != "" {
		return true
	}
	pause(ctx, forAPress)
	later, ok := r.words(ctx)
	return ok && later == now
}

// pressSomething presses what players would: the controls that are to be seen, or the middle, and the keys that begin games. Once a press
// leads to other words than those that were there, it stops, and returns them: the next one could lead back.
func (r *viewer) pressSomething(ctx context.Context, words string) (led string, err error) {
	now, _ := r.words(ctx)
	restless := now != words // they change by themselves, and tell nothing of a press
	for _, at := range r.controls(ctx) {
		if err := r.press(ctx, at[0], at[1]); err != nil {
			return "", err
		}
		if r.view.Touch {
			pause(ctx, twice)
		}
		pause(ctx, often)
		if now, _ := r.words(ctx); !restless && now != words && now != "" {
			return now, nil
		}
	}
	r.unmoved(ctx, true) // a page that scrolls by a key has not answered
	defer r.unmoved(ctx, false)
	for _, key := range []string{"Enter", "Space", "ArrowRight"} {
		if err := r.key(ctx, key, 0); err != nil {
			return "", err
		}
	}
	return "", nil
}

// unmoved has keys do nothing to the page but what the game does at them. A page that can't be asked so scrolls.
func (r *viewer) unmoved(ctx context.Context, on bool) {
	r.tab.Evaluate(ctx, r.watch.frame(), fmt.Sprintf("window.havvelUnmoved && havvelUnmoved(%v)", on), nil)
}

// controls are the points at which players press: on the controls that are to be seen, in the middle of the window, and of the picture
// where that is elsewhere.
func (r *viewer) controls(ctx context.Context) (points [][2]float64) {
	r.tab.Evaluate(ctx, r.watch.frame(), "window.havvelControls ? havvelControls() : []", &points) // one that doesn't answer is pressed, too
	page, _ := r.ask(ctx)
	width, height := r.extent(page)
	x, y := width/2, height/2
	if page != nil && page.Canvas != nil {
		c := page.Canvas
		left, top, right, bottom := max(0, c.X), max(0, c.Y), min(width, c.X+c.W), min(height, c.Y+c.H)
		if left < right && top < bottom && (x < left || x > right || y < top || y > bottom) {
			points = append(points, [2]float64{(left + right) / 2, (top + bottom) / 2})
		}
	}
	return append(points, [2]float64{x, y})
}
