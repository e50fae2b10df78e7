package browser

import (
	"context"
	"unicode/utf8"

	"github.com/chromedp/cdproto/input"
	"github.com/chromedp/chromedp/kb"
)

func (t *chromiumTab) Key(ctx context.Context, key string, down bool) error {
	if c, named := keyCodes[key]; named {
		key = c.chromium
	}
	r, _ := utf8.DecodeRuneInString(key)
	events := kb.Encode(r)
	last := len(events) - 1
	if !down {
		_, err := call(ctx, t, input.DispatchKeyEvent, *events[last])
		return err
	}
	for _, e := range events[:last] {
		if _, err := call(ctx, t, input.DispatchKeyEvent, *e); err != nil {
			return err
		}
	}
	return nil
}

func (t *chromiumTab) Mouse(ctx context.Context, m Mouse) error {
	if m.Motion == Wheel { // both ways must be there, also where one is none
		ctx, cancel := limited(ctx)
		defer cancel()
		return t.target.Call(ctx, input.DispatchMouseEvent.Method, map[string]any{
			"type": "mouseWheel", "x": m.X, "y": m.Y, "deltaX": 0, "deltaY": m.Pixels,
		}, nil)
	}
	p := input.DispatchMouseEventParams{X: m.X, Y: m.Y}
	button, held := input.MouseButtonLeft, int64(1)
	if m.Right {
		button, held = input.MouseButtonRight, 2
	}
	switch m.Motion {
	case Down:
		p.Type, p.Button, p.Buttons, p.ClickCount = input.DispatchMouseEventTypeMousePressed, button, held, 1
	case Up:
		none := int64(0)
		p.Type, p.Button, p.Buttons, p.ClickCount = input.DispatchMouseEventTypeMouseReleased, button, none, 1
	default:
		p.Type = input.DispatchMouseEventTypeMouseMoved
		if m.Held {
			p.Button, p.Buttons = button, held
		}
	}
	_, err := call(ctx, t, input.DispatchMouseEvent, p)
	return err
}

func (t *chromiumTab) Touch(ctx context.Context, m Motion, x, y float64) error {
	p := input.DispatchTouchEventParams{Type: input.DispatchTouchEventTypeTouchStart, TouchPoints: []*input.TouchPoint{{X: x, Y: y}}}
	switch m {
	case Move:
		p.Type = input.DispatchTouchEventTypeTouchMove
	case Up:
		p.Type, p.TouchPoints = input.DispatchTouchEventTypeTouchEnd, nil
	}
	_, err := call(ctx, t, input.DispatchTouchEvent, p)
	return err
}
