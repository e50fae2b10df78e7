package trial

import (
	"context"
	"errors"
	"fmt"
	"time"

	"havvel/internal/browser"
	"havvel/internal/rulebook"
)

// even gives a game the same chance in each run: its random numbers are the same ones (mulberry32).
const even = `(() => {
	let at = 20240229;
	Math.random = () => {
		at = at + 0x6d2b79f5 | 0;
		let t = Math.imul(at ^ at >>> 15, 1 | at);
		t = t + Math.imul(t ^ t >>> 7, 61 | t) ^ t;
		return ((t ^ t >>> 14) >>> 0) / 4294967296;
	};
})();`

// Beside runs the build once in one window, as one side of a comparison: until it has started and its picture can be compared, with the
// steps after that, and always with the same random numbers. Nothing is judged. A browser that fails is tried once more; then the error is
// *browser.Broken.
func (t *Trial) Beside(ctx context.Context, program string, v rulebook.View) (*View, error) {
	for try := 1; ; try++ {
		seen, err := t.beside(ctx, program, v)
		var broken *browser.Broken
		if try == 1 && errors.As(err, &broken) && ctx.Err() == nil {
			continue
		}
		return seen, err
	}
}

func (t *Trial) beside(ctx context.Context, program string, v rulebook.View) (*View, error) {
	b, err := browser.Start(ctx, program)
	if err != nil {
		return nil, err
	}
	defer b.Close()
	r, done, err := t.beginWith(ctx, b, v, 0, "delete window.havvelInput;"+even, nil)
	if err != nil {
		return nil, err
	}
	defer done()
	if err := r.compared(ctx); err != nil && !r.fell(ctx) && !r.froze(ctx, err) {
		return nil, browser.Failed(ctx, err)
	}
	r.finish()
	r.seen.Browser = b.Name()
	return r.seen, nil
}

// compared watches the game until it can be compared.
func (r *viewer) compared(ctx context.Context) error {
	if r.trial.Page != "" && r.watch.page != "" {
		if ok, err := r.alone(ctx); err != nil || !ok {
			r.seen.Answer, r.seen.Why = Untold, "the host's page has more in it than the game, whose frame can't be shown alone"
			return err
		}
	}
	if err := r.start(ctx); err != nil || r.seen.Answer == No {
		return err
	}
	if len(r.seen.Pictures) > 0 { // it was needed to tell whether the game starts
		return ctx.Err()
	}
	stop, err := r.tab.Watch(ctx, sightWidth, r.sight.look)
	if err != nil {
		return err
	}
	defer stop()
	r.pause(ctx, while+often) // so that what moves now is known, and what moved before the start isn't
	p, err := r.picture(ctx, "start")
	if err != nil {
		return err
	}
	r.firstScreen(p)
	if len(r.trial.Steps) > 0 && !r.played {
		return r.steps(ctx)
	}
	return ctx.Err()
}

// largest brings the frame of the game, or the largest there is, before all else in a page, as large as the window. Nothing is moved, so it
// isn't loaded again.
const largest = `((game) => {
	const size = (f) => f.offsetWidth * f.offsetHeight;
	const list = [...document.querySelectorAll("iframe")].sort((a, b) => size(b) - size(a));
	const f = list.find((f) => f.src.startsWith(game)) || list[0];
	if (!f) return;
	f.popover = "manual";
	f.showPopover();
	f.style.cssText += ";position:fixed;inset:0;width:100vw;height:100vh;max-width:none;max-height:none;margin:0;padding:0;border:0";
})`

// alone shows nothing but the game of a page that has more in it, and reports whether that could be done: the game itself must say that it
// has the window.
func (r *viewer) alone(ctx context.Context) (bool, error) {
	for end := time.Now().Add(r.trial.Start); time.Now().Before(end) && ctx.Err() == nil; pause(ctx, often) {
		game := r.watch.frame()
		if game == "" {
			continue
		}
		err := r.tab.Evaluate(ctx, "", fmt.Sprintf("%s(%q)", largest, r.trial.Game), nil)
		if err != nil && !errors.Is(err, browser.ErrGone) {
			return false, err
		}
		pause(ctx, often)
		var whole bool
		fits := fmt.Sprintf("Math.abs(innerWidth - %d) < 20 && Math.abs(innerHeight - %d) < 20", r.view.Size[0], r.view.Size[1])
		if err := r.tab.Evaluate(ctx, game, fits, &whole); err == nil && whole {
			return true, nil
		}
	}
	return false, ctx.Err()
}

// finish takes over what was seen and heard meanwhile.
func (r *viewer) finish() {
	w := r.watch
	w.mu.Lock()
	defer w.mu.Unlock()
	r.seen.Heard, r.seen.Requests, r.seen.Problems = w.heard, w.order, append(r.seen.Problems, w.problems...)
}

// LooksApart is the share of what stands still in two first screens and looks different; ok is false where they can't be compared.
func (f *First) LooksApart(o *First) (share float64, ok bool) {
	if f == nil || o == nil {
		return 0, false
	}
	return f.differs(o)
}

// Moving is the share of places that change by themselves.
func (f *First) Moving() float64 {
	n := 0
	for _, moves := range f.Moves {
		if moves {
			n++
		}
	}
	return float64(n) / float64(max(1, len(f.Moves)))
}

// AllApart is the share of all places that look different in two first screens, of what moves, too.
func (f *First) AllApart(o *First) float64 {
	if f.Wide != o.Wide || f.High != o.High {
		return 1
	}
	n := 0
	for i := range f.Light {
		if !f.like(i, o) {
			n++
		}
	}
	return float64(n) / float64(max(1, len(f.Light)))
}

// First is what the first screen looks like; nil where there was none.
func (v *View) First() *First { return v.first }
