package trial

import (
	"context"
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"havvel/internal/browser"
)

// A press lasts some frames: games look once a frame at what is pressed.
const (
	leastFrames = 3
	mostHeld    = time.Second // where no frames are drawn
)

// key presses a key, and holds it for a time and some frames.
func (v *viewer) key(ctx context.Context, key string, d time.Duration) error {
	if err := v.tab.Key(ctx, key, true); err != nil {
		return err
	}
	v.held(ctx, d)
	return v.tab.Key(ctx, key, false)
}

// press presses at a point, with a finger where the window is touched, and holds it for some frames.
func (v *viewer) press(ctx context.Context, x, y float64) error {
	if v.view.Touch {
		return v.stroke(ctx, x, y, x, y)
	}
	return v.click(ctx, browser.Mouse{X: x, Y: y})
}

// click moves the mouse to a point, and presses a button there.
func (v *viewer) click(ctx context.Context, m browser.Mouse) error {
	for _, motion := range []browser.Motion{browser.Move, browser.Down, browser.Up} {
		if motion == browser.Up {
			v.held(ctx, 0)
		}
		m.Motion = motion
		if err := v.tab.Mouse(ctx, m); err != nil {
			return err
		}
	}
	return nil
}

// strokeSteps is in how many moves a stroke goes from its beginning to its end.
const strokeSteps = 8

// stroke puts a finger down, or the mouse's button, moves it, and lifts it.
func (v *viewer) stroke(ctx context.Context, x, y, x2, y2 float64) error {
	do := func(m browser.Motion, x, y float64) error {
		if v.view.Touch {
			return v.tab.Touch(ctx, m, x, y)
		}
		return v.tab.Mouse(ctx, browser.Mouse{Motion: m, X: x, Y: y, Held: true})
	}
	if err := do(browser.Down, x, y); err != nil {
		return err
	}
	for i := 1; i <= strokeSteps && (x != x2 || y != y2); i++ {
		at := float64(i) / strokeSteps
		if err := do(browser.Move, x+(x2-x)*at, y+(y2-y)*at); err != nil {
			return err
		}
		pause(ctx, 20*time.Millisecond)
	}
	v.held(ctx, 0)
	return do(browser.Up, x2, y2)
}

// held waits as long as a press lasts.
func (v *viewer) held(ctx context.Context, d time.Duration) {
	before, err := v.ask(ctx)
	v.pause(ctx, d)
	for end := time.Now().Add(mostHeld); err == nil && ctx.Err() == nil && time.Now().Before(end); pause(ctx, 20*time.Millisecond) {
		var now *state
		if now, err = v.ask(ctx); err == nil && now.Frames >= before.Frames+leastFrames {
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
	return func(ctx context.Context, v *viewer) error { return v.key(ctx, m[1], d) }, err
}

// down puts a key down, and leaves it so for some frames at least; up lets it go.
func down(key string) (action, error) {
	_, err := press(key)
	return func(ctx context.Context, v *viewer) error {
		err := v.tab.Key(ctx, key, true)
		if err == nil {
			v.held(ctx, 0)
		}
		return err
	}, err
}

func up(key string) (action, error) {
	_, err := press(key)
	return func(ctx context.Context, v *viewer) error { return v.tab.Key(ctx, key, false) }, err
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
	return func(ctx context.Context, v *viewer) error {
		x, y := p.in(ctx, v)
		return v.click(ctx, browser.Mouse{X: x, Y: y, Right: true})
	}, err
}

func hover(rest string) (func(context.Context, *viewer) error, error) {
	p, err := at("hover", rest)
	return func(ctx context.Context, v *viewer) error {
		x, y := p.in(ctx, v)
		return v.tab.Mouse(ctx, browser.Mouse{Motion: browser.Move, X: x, Y: y})
	}, err
}

// wheel turns the wheel over the middle of the window, down for positive pixels.
func wheel(rest string) (func(context.Context, *viewer) error, error) {
	pixels, err := strconv.ParseFloat(rest, 64)
	if err != nil || pixels == 0 || pixels < -10_000 || pixels > 10_000 {
		return nil, fmt.Errorf("write by how many pixels, such as: wheel 300, or up: wheel -300")
	}
	return func(ctx context.Context, v *viewer) error {
		return v.tab.Mouse(ctx, browser.Mouse{
			Motion: browser.Wheel, X: float64(v.view.Size[0]) / 2, Y: float64(v.view.Size[1]) / 2, Pixels: pixels,
		})
	}, nil
}

// rotate turns the window, and leaves it so.
func (v *viewer) rotate(ctx context.Context) error {
	v.view.Size[0], v.view.Size[1] = v.view.Size[1], v.view.Size[0]
	if err := v.resize(ctx, v.view.Size[0], v.view.Size[1]); err != nil {
		return err
	}
	_, err := v.settled(ctx)
	return err
}

// buttons are those of a pad, by their place in the standard layout (W3C Gamepad, Standard Gamepad).
var buttons = []string{"A", "B", "X", "Y", "L1", "R1", "L2", "R2", "select", "start", "L3", "R3", "up", "down", "left", "right"}

var padLine = regexp.MustCompile(`^(\S+)( for (\S+))?$`)

// pad presses a button of a gamepad, which is there from its first press on.
func pad(rest string) (func(context.Context, *viewer) error, error) {
	m := padLine.FindStringSubmatch(rest)
	if m == nil || !slices.Contains(buttons, m[1]) {
		return nil, fmt.Errorf("write which button: %s", strings.Join(buttons, ", "))
	}
	d := time.Duration(0)
	if m[3] != "" {
		var err error
		if d, err = upToAMinute(m[3]); err != nil {
			return nil, err
		}
	}
	number := slices.Index(buttons, m[1])
	return func(ctx context.Context, v *viewer) error {
		press := func(down bool) error {
			return v.tab.Evaluate(ctx, v.watch.frame(), fmt.Sprintf("havvelPad(%d, %v)", number, down), nil)
		}
		if err := press(true); err != nil {
			return err
		}
		v.held(ctx, d)
		return press(false)
	}, nil
}

// during has something be so for a time.
func during(rest string, set func(v *viewer, ctx context.Context, on bool) error) (func(context.Context, *viewer) error, error) {
	text, ok := strings.CutPrefix(rest, "for ")
	if !ok {
		return nil, fmt.Errorf("write how long: for 2s")
	}
	d, err := upToAMinute(text)
	return func(ctx context.Context, v *viewer) error {
		if err := set(v, ctx, true); err != nil {
			return err
		}
		v.pause(ctx, d)
		return set(v, ctx, false)
	}, err
}

// hide tells the game that its tab is hidden, or shown again.
func (v *viewer) hide(ctx context.Context, hidden bool) error {
	return v.tab.Evaluate(ctx, v.watch.frame(), fmt.Sprintf("havvelHide(%v)", hidden), nil)
}
