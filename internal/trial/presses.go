package trial

import (
	"context"
	"fmt"
	"regexp"
	"strconv"
	"strings"
	"time"

	"github.com/chromedp/cdproto/input"
	"github.com/chromedp/cdproto/runtime"
	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"
)

// A press lasts some frames: games look once a frame at what is pressed.
const (
	leastFrames = 3
	mostHeld    = time.Second // where no frames are drawn
)

// key presses keys one after another, and holds each for a time and some frames.
func (v *viewer) key(ctx context.Context, keys string, d time.Duration) error {
	for _, r := range keys {
		events := kb.Encode(r)
		for i, e := range events {
			if i == len(events)-1 {
				v.held(ctx, d)
			}
			err := v.call(func(ctx context.Context) error {
				_, err := chromedp.Call(ctx, input.DispatchKeyEvent, *e)
				return err
			})
			if err != nil {
				return err
			}
		}
	}
	return nil
}

// held waits as long as a press lasts.
func (v *viewer) held(ctx context.Context, d time.Duration) {
	before, err := v.ask()
	v.pause(ctx, d)
	for end := time.Now().Add(mostHeld); err == nil && ctx.Err() == nil && time.Now().Before(end); pause(ctx, 20*time.Millisecond) {
		var now *state
		if now, err = v.ask(); err == nil && now.Frames >= before.Frames+leastFrames {
			return
		}
	}
}

var holdLine = regexp.MustCompile(`^(\S+) for (\S+)$`)

func hold(rest string) (func(context.Context, *viewer) error, error) {
	m := holdLine.FindStringSubmatch(rest)
	if m == nil {
		return nil, fmt.Errorf("write which key, and how long: hold ArrowRight for 500ms")
	}
	if _, err := press(m[1]); err != nil {
		return nil, err
	}
	d, err := upToAMinute(m[2])
	key, named := keys[m[1]]
	if !named {
		key = m[1]
	}
	return func(ctx context.Context, v *viewer) error { return v.key(ctx, key, d) }, err
}

// at reads the place of a step that has one.
func at(step, rest string) (point, error) {
	parts := strings.Fields(rest)
	if len(parts) != 2 {
		return point{}, fmt.Errorf("write where: %s 50%% 80%%", step)
	}
	return parsePoint(parts[0], parts[1])
}

func rightPress(rest string) (func(context.Context, *viewer) error, error) {
	p, err := at("right-press", rest)
	return func(_ context.Context, v *viewer) error {
		x, y := p.in(v)
		return v.do(chromedp.MouseClickXY(x, y, chromedp.ButtonRight))
	}, err
}

func hover(rest string) (func(context.Context, *viewer) error, error) {
	p, err := at("hover", rest)
	return func(_ context.Context, v *viewer) error {
		x, y := p.in(v)
		return v.do(chromedp.MouseEvent(input.DispatchMouseEventTypeMouseMoved, x, y))
	}, err
}

// wheel turns the wheel over the middle of the window, down for positive pixels.
func wheel(rest string) (func(context.Context, *viewer) error, error) {
	pixels, err := strconv.ParseFloat(rest, 64)
	if err != nil || pixels == 0 || pixels < -10_000 || pixels > 10_000 {
		return nil, fmt.Errorf("write by how many pixels, such as: wheel 300, or up: wheel -300")
	}
	return func(_ context.Context, v *viewer) error {
		return v.call(func(ctx context.Context) error {
			_, err := chromedp.Call(ctx, input.DispatchMouseEvent, input.DispatchMouseEventParams{
				Type: input.DispatchMouseEventTypeMouseWheel, DeltaY: pixels,
				X: float64(v.view.Size[0]) / 2, Y: float64(v.view.Size[1]) / 2,
			})
			return err
		})
	}, nil
}

// rotate turns the window, and leaves it so.
func (v *viewer) rotate(ctx context.Context) error {
	v.view.Size[0], v.view.Size[1] = v.view.Size[1], v.view.Size[0]
	if err := v.call(func(ctx context.Context) error { return chromedp.Do(ctx, v.size(v.view.Size[0], v.view.Size[1])) }); err != nil {
		return err
	}
	_, err := v.settled(ctx)
	return err
}

var textLine = regexp.MustCompile(`^(.+?)( within (\S+))?$`)

// expectText waits for words in the game's page; what is drawn on a canvas is no text.
func expectText(rest string) (func(context.Context, *viewer) error, error) {
	m := textLine.FindStringSubmatch(rest)
	if m == nil {
		return nil, fmt.Errorf("write which words: expect text Night two within 5s")
	}
	words, within := m[1], 3*time.Second
	if m[3] != "" {
		var err error
		if within, err = upToAMinute(m[3]); err != nil {
			return nil, err
		}
	}
	return func(ctx context.Context, v *viewer) error {
		return v.await(ctx, within, fmt.Sprintf("the text %q", words), func() (bool, error) {
			id := v.watch.context()
			inside, cancel := context.WithTimeout(v.browser, answerLimit)
			defer cancel()
			text, err := chromedp.Run(inside, chromedp.Evaluate[string](
				`document.body ? document.body.innerText.replace(/\s+/g, " ") : ""`,
				func(p *runtime.EvaluateParams) { p.ContextID = id },
			))
			if err != nil && id != v.watch.context() {
				return false, nil // it went while it was asked
			}
			return strings.Contains(text, words), err
		})
	}, nil
}
