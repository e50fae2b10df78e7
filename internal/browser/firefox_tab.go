package browser

import (
	"context"
	"errors"
	"math"
	"strings"
	"sync"
	"time"
)

// A firefoxTab is one window.
type firefoxTab struct {
	*gecko
	window  Window
	hear    func(Event)
	context string
	user    string // its cookies and storage

	mu     sync.Mutex
	closed bool // by Close
	gone   bool // by somebody else
}

func (f *firefox) Open(ctx context.Context, w Window, hear func(Event)) (Tab, error) {
	g, err := f.gecko(ctx, w)
	if err != nil {
		return nil, Failed(ctx, err)
	}
	t := &firefoxTab{gecko: g, window: w, hear: hear}
	if err := t.prepare(ctx); err != nil {
		t.Close()
		return nil, Failed(ctx, err)
	}
	return t, nil
}

// told are the events that are wanted.
var told = []string{
	"browsingContext.contextCreated", "browsingContext.contextDestroyed", "browsingContext.navigationCommitted",
	"browsingContext.userPromptOpened", "log.entryAdded", "network.beforeRequestSent", "network.responseStarted",
	"network.responseCompleted", "network.fetchError", "script.message",
}

// prepare opens the window, and makes it as it should be before it has a page.
func (t *firefoxTab) prepare(ctx context.Context) error {
	var user struct{ UserContext string }
	err := t.callFor(ctx, openLimit, "browser.createUserContext", nil, &user)
	t.user = user.UserContext
	var made struct{ Context string }
	if err == nil {
		err = t.callFor(ctx, openLimit, "browsingContext.create", map[string]any{"type": "window", "userContext": t.user}, &made)
	}
	if err != nil {
		return err
	}
	t.context = made.Context
	only := []string{t.context}
	t.bidi.mu.Lock()
	t.tell[t.context] = t.event
	t.bidi.mu.Unlock()
	step := func(method string, params any) {
		if err == nil {
			err = t.call(ctx, method, params, nil)
		}
	}
	step("session.subscribe", map[string]any{"events": told, "contexts": only})
	if err == nil {
		err = t.Size(ctx, t.window)
	}
	step("script.addPreloadScript", map[string]any{
		"functionDeclaration": "(say) => { window." + Say + " = say;\n" + t.window.Probe + "\n}",
		"arguments":           []any{map[string]any{"type": "channel", "value": map[string]string{"channel": Say}}},
		"contexts":            only,
	})
	if t.window.Language != "" {
		step("emulation.setLocaleOverride", map[string]any{"contexts": only, "locale": t.window.Language})
	}
	if len(t.window.Answers) > 0 {
		var patterns []any
		for _, a := range t.window.Answers {
			patterns = append(patterns, bidiPattern(a.Address))
		}
		step("network.addIntercept", map[string]any{"phases": []string{"beforeRequestSent"}, "urlPatterns": patterns, "contexts": only})
	}
	return err
}

func (t *firefoxTab) Go(ctx context.Context, address string) error {
	return t.callFor(ctx, openLimit, "browsingContext.navigate", map[string]any{
		"context": t.context, "url": address, "wait": "none",
	}, nil)
}

func (t *firefoxTab) Size(ctx context.Context, w Window) error {
	err := t.call(ctx, "browsingContext.setViewport", map[string]any{
		"context": t.context, "viewport": map[string]int{"width": w.Width, "height": w.Height}, "devicePixelRatio": max(1, w.Scale),
	}, nil)
	if err != nil || !w.Touch {
		return err
	}
	natural, kind := "portrait", "portrait-primary"
	if w.Width > w.Height {
		kind = "landscape-primary"
	}
	return t.call(ctx, "emulation.setScreenOrientationOverride", map[string]any{
		"contexts": []string{t.context}, "screenOrientation": map[string]string{"natural": natural, "type": kind},
	}, nil)
}

func (t *firefoxTab) Evaluate(ctx context.Context, f Frame, expression string, into any) error {
	if f == "" {
		f = Frame(t.context)
	}
	var r struct {
		Type   string
		Result struct {
			Value string
		}
		ExceptionDetails struct{ Text string }
	}
	err := t.call(ctx, "script.evaluate", map[string]any{
		"expression": "(async () => JSON.stringify(await (" + expression + ")))()", "awaitPromise": true,
		"target": map[string]string{"context": string(f)},
	}, &r)
	var refused *bidiError
	switch {
	case errors.As(err, &refused) && (strings.HasPrefix(refused.code, "no such") || strings.Contains(refused.message, "destroyed")):
		return ErrGone
	case err != nil:
		return err
	case r.Type == "exception":
		return errors.New("evaluating: " + r.ExceptionDetails.Text)
	}
	return decode([]byte(r.Result.Value), into)
}

func (t *firefoxTab) shot(ctx context.Context, format map[string]any) ([]byte, error) {
	var r struct{ Data []byte }
	err := t.call(ctx, "browsingContext.captureScreenshot", map[string]any{"context": t.context, "format": format}, &r)
	return r.Data, err
}

func (t *firefoxTab) Picture(ctx context.Context) ([]byte, error) {
	return t.shot(ctx, map[string]any{"type": "image/png"})
}

// Watch takes pictures of the whole window, one after another.
func (t *firefoxTab) Watch(ctx context.Context, width int, see func([]byte, time.Time)) (func(), error) {
	ctx, cancel := context.WithCancel(ctx)
	quality := 0.92
	if width > 0 {
		quality = 0.5
	}
	done := make(chan struct{})
	go func() {
		defer close(done)
		for ; ctx.Err() == nil; pause(ctx, 2*between) {
			if p, err := t.shot(ctx, map[string]any{"type": "image/jpeg", "quality": quality}); err == nil {
				see(p, time.Now())
			}
		}
	}()
	return func() { cancel(); <-done }, nil
}

// perform does one action of a device (WebDriver BiDi, input.performActions).
func (t *firefoxTab) perform(ctx context.Context, device, id string, parameters map[string]string, actions ...map[string]any) error {
	source := map[string]any{"type": device, "id": id, "actions": actions}
	if parameters != nil {
		source["parameters"] = parameters
	}
	return t.call(ctx, "input.performActions", map[string]any{"context": t.context, "actions": []any{source}}, nil)
}

func (t *firefoxTab) Key(ctx context.Context, key string, down bool) error {
	if c, named := keyCodes[key]; named {
		key = c.bidi
	}
	kind := "keyUp"
	if down {
		kind = "keyDown"
	}
	return t.perform(ctx, "key", "keys", nil, map[string]any{"type": kind, "value": key})
}

func (t *firefoxTab) Mouse(ctx context.Context, m Mouse) error {
	x, y := math.Round(m.X), math.Round(m.Y)
	button := 0
	if m.Right {
		button = 2
	}
	to := map[string]any{"type": "pointerMove", "x": x, "y": y, "origin": "viewport"}
	mouse := map[string]string{"pointerType": "mouse"}
	switch m.Motion {
	case Down:
		return t.perform(ctx, "pointer", "mouse", mouse, to, map[string]any{"type": "pointerDown", "button": button})
	case Up:
		return t.perform(ctx, "pointer", "mouse", mouse, to, map[string]any{"type": "pointerUp", "button": button})
	case Wheel:
		return t.perform(ctx, "wheel", "wheel", nil, map[string]any{
			"type": "scroll", "x": x, "y": y, "deltaX": 0, "deltaY": math.Round(m.Pixels), "origin": "viewport",
		})
	}
	return t.perform(ctx, "pointer", "mouse", mouse, to)
}

func (t *firefoxTab) Touch(ctx context.Context, m Motion, x, y float64) error {
	finger := map[string]string{"pointerType": "touch"}
	to := map[string]any{"type": "pointerMove", "x": math.Round(x), "y": math.Round(y), "origin": "viewport"}
	switch m {
	case Down:
		return t.perform(ctx, "pointer", "finger", finger, to, map[string]any{"type": "pointerDown", "button": 0})
	case Up:
		return t.perform(ctx, "pointer", "finger", finger, map[string]any{"type": "pointerUp", "button": 0})
	}
	return t.perform(ctx, "pointer", "finger", finger, to)
}

func (t *firefoxTab) Offline(ctx context.Context, off bool) error {
	var conditions any
	if off {
		conditions = map[string]string{"type": "offline"}
	}
	return t.call(ctx, "emulation.setNetworkConditions", map[string]any{"contexts": []string{t.context}, "networkConditions": conditions}, nil)
}

func (t *firefoxTab) Process() int { return t.program.Process.Pid }

func (t *firefoxTab) Cannot() []string {
	list := []string{"memory of scripts"}
	if t.window.Touch {
		list = append(list, "how a phone shows a page that names no viewport")
	}
	if t.window.Slower > 1 {
		list = append(list, "a slower processor")
	}
	if t.window.Line > 0 || t.window.Delay > 0 {
		list = append(list, "a slower line")
	}
	return list
}

// Running has no counterpart in WebDriver BiDi.
func (t *firefoxTab) Running(context.Context) ([]Place, error) { return nil, ErrNoWay }

func (t *firefoxTab) Gone() bool {
	t.mu.Lock()
	defer t.mu.Unlock()
	select {
	case <-t.over:
		return true
	default:
		return t.gone || t.closed
	}
}

func (t *firefoxTab) Close() {
	t.mu.Lock()
	t.closed = true
	t.mu.Unlock()
	ctx, cancel := context.WithTimeout(context.Background(), answerLimit)
	defer cancel()
	if t.context != "" {
		t.call(ctx, "browsingContext.close", map[string]any{"context": t.context}, nil) // one that is gone is closed
	}
	if t.user != "" {
		t.call(ctx, "browser.removeUserContext", map[string]any{"userContext": t.user}, nil)
	}
	t.bidi.mu.Lock()
	delete(t.tell, t.context)
	t.bidi.mu.Unlock()
}
