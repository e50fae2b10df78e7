package browser

import (
	"context"
	"errors"
	"fmt"
	"os"
	"slices"
	"sync"
	"time"

	"github.com/chromedp/cdproto/browser"
	"github.com/chromedp/cdproto/cdp"
	"github.com/chromedp/cdproto/emulation"
	"github.com/chromedp/cdproto/fetch"
	"github.com/chromedp/cdproto/network"
	"github.com/chromedp/cdproto/page"
	"github.com/chromedp/cdproto/profiler"
	"github.com/chromedp/cdproto/runtime"
	"github.com/chromedp/cdproto/target"
	"github.com/chromedp/chromedp"
)

// chromium is a running Chromium, or what is built on it.
type chromium struct {
	root    context.Context
	stop    func()
	name    string
	process int
}

func startChromium(ctx context.Context, path string, shown bool) (*chromium, error) {
	options := append(
		chromedp.DefaultExecAllocatorOptions[:],
		chromedp.ExecPath(path),
		chromedp.Flag("disable-quic", true),
		// A frame of another site stays in the process of the page around it, so that one session tells everything.
		// The pages of the address bar, which nobody sees, would take half of the time in which the browser starts.
		chromedp.Flag("disable-features", "Translate,BlinkGenPropertyTrees,SitePerProcess,IsolateOrigins,IsolateSandboxedIframes,"+
			"WebUIOmniboxPopup,WebUIOmniboxAimPopup"),
		chromedp.Flag("disable-site-isolation-trials", true),
		chromedp.Flag("disable-component-update", true),
		// Where there is no graphics card, WebGL and WebGPU are drawn in software.
		chromedp.Flag("enable-unsafe-swiftshader", true),
		chromedp.Flag("enable-unsafe-webgpu", true),
		// Without a graphics card, drawing in few steps is quicker, most of all on a busy machine.
		chromedp.Flag("disable-gpu-rasterization", true),
		chromedp.Flag("disable-gpu-compositing", true),
		chromedp.Flag("disable-accelerated-2d-canvas", true),
		chromedp.Flag("enable-precise-memory-info", true),
	)
	if shown {
		options = append(options, chromedp.VisibleWindow, chromedp.Flag("no-startup-window", true))
	}
	if os.Geteuid() == 0 {
		options = append(options, chromedp.NoSandbox) // a browser refuses to run as root with it
	}
	outer, stop := chromedp.NewExecAllocator(ctx, options...)
	root, end := chromedp.NewContext(outer)
	c := &chromium{root: root, stop: func() { end(); stop() }}
	guard := time.AfterFunc(openLimit, c.stop) // the browser ends with the context that starts it, which so has no limit of its own
	defer guard.Stop()
	version, err := chromedp.CallBrowser(root, browser.GetVersion, cdp.Empty{})
	if err != nil {
		c.stop()
		return nil, Failed(ctx, err)
	}
	c.name = version.Product
	if b := chromedp.FromContext(root).Browser; b.Process() != nil {
		c.process = b.Process().Pid
		letGo := leash(b.Process())
		c.stop = func() { end(); stop(); letGo() }
	}
	return c, nil
}

func (c *chromium) Name() string { return c.name }
func (c *chromium) Close()       { c.stop() }

// A chromiumTab is one window.
type chromiumTab struct {
	target  *chromedp.Target
	inside  context.Context
	end     func()
	window  Window
	process int

	mu       sync.Mutex
	hear     func(Event)
	contexts map[cdp.FrameID]*runtime.ExecutionContextDescription
	offset   float64 // seconds from the browser's clock to that of the day
	see      func([]byte, time.Time)
	sent     int64 // messages to workers
	gone     bool
}

func (c *chromium) Open(ctx context.Context, w Window, hear func(Event)) (Tab, error) {
	t := &chromiumTab{
		window: w, process: c.process, hear: hear,
		contexts: map[cdp.FrameID]*runtime.ExecutionContextDescription{},
	}
	inside, end := chromedp.NewContext(c.root, chromedp.WithNewBrowserContext(), chromedp.WithListener(t.event))
	stopping := context.AfterFunc(ctx, end)
	t.inside, t.end = inside, func() { stopping(); end() }
	guard := time.AfterFunc(openLimit, end)
	defer guard.Stop()
	err := chromedp.Do(inside)
	if err == nil {
		t.target = chromedp.FromContext(inside).Target
		err = t.prepare(ctx)
	}
	if err != nil {
		t.end()
		return nil, Failed(ctx, err)
	}
	return t, nil
}

// call asks a window something.
func call[P, R any](ctx context.Context, t *chromiumTab, command cdp.Command[P, R], params P) (R, error) {
	ctx, cancel := limited(ctx)
	defer cancel()
	r, err := cdp.Call(ctx, t.target, command, params)
	if err != nil && ctx.Err() != nil {
		err = fmt.Errorf("%w: %w", ErrNoAnswer, ctx.Err())
	}
	return r, err
}

// prepare makes the window as it should be, before it has a page.
func (t *chromiumTab) prepare(ctx context.Context) error {
	err := t.Size(ctx, t.window)
	step := func(method string, params any) {
		if err == nil {
			inside, cancel := limited(ctx)
			defer cancel()
			err = t.target.Call(inside, method, params, nil)
		}
	}
	step(runtime.AddBinding.Method, runtime.AddBindingParams{Name: Say})
	step(page.AddScriptToEvaluateOnNewDocument.Method, page.AddScriptToEvaluateOnNewDocumentParams{Source: t.window.Probe})
	// Who runs is looked at now and then, so that a page that hangs can be told from where.
	step(profiler.Enable.Method, cdp.Empty{})
	step(profiler.SetSamplingInterval.Method, profiler.SetSamplingIntervalParams{Interval: lookEvery.Microseconds()})
	step(profiler.Start.Method, cdp.Empty{})
	// Workers wait until they are watched. They are spoken to through the window's own session.
	step(target.SetAutoAttach.Method, target.SetAutoAttachParams{Flatten: new(true)})
	step(target.SetAutoAttach.Method, target.SetAutoAttachParams{AutoAttach: true, WaitForDebuggerOnStart: true, Flatten: new(false)})
	if w := t.window; w.Dark || w.Still {
		var features []*emulation.MediaFeature
		if w.Dark {
			features = append(features, &emulation.MediaFeature{Name: "prefers-color-scheme", Value: "dark"})
		}
		if w.Still {
			features = append(features, &emulation.MediaFeature{Name: "prefers-reduced-motion", Value: "reduce"})
		}
		step(emulation.SetEmulatedMedia.Method, emulation.SetEmulatedMediaParams{Features: features})
	}
	if t.window.Language != "" {
		step("Emulation.setLocaleOverride", map[string]string{"locale": t.window.Language})
		agent := ""
		if err == nil {
			err = t.Evaluate(ctx, "", "navigator.userAgent", &agent)
		}
		step("Emulation.setUserAgentOverride", map[string]string{"userAgent": agent, "acceptLanguage": t.window.Language})
	}
	if t.window.Slower > 1 {
		step("Emulation.setCPUThrottlingRate", map[string]float64{"rate": t.window.Slower})
	}
	if t.window.Line > 0 || t.window.Delay > 0 {
		step("Network.emulateNetworkConditions", t.line(false))
	}
	if patterns := t.patterns(); len(patterns) > 0 {
		step(fetch.Enable.Method, fetch.EnableParams{Patterns: patterns})
	}
	return err
}

func (t *chromiumTab) line(off bool) map[string]any {
	most := float64(-1)
	if t.window.Line > 0 {
		most = float64(t.window.Line)
	}
	return map[string]any{
		"offline": off, "latency": float64(t.window.Delay.Milliseconds()), "downloadThroughput": most, "uploadThroughput": most,
	}
}

func (t *chromiumTab) patterns() []*fetch.RequestPattern {
	var list []*fetch.RequestPattern
	for _, a := range t.window.Answers {
		for _, end := range []string{"", "?*"} {
			list = append(list, &fetch.RequestPattern{URLPattern: a.Address + end})
		}
	}
	return list
}

func (t *chromiumTab) Size(ctx context.Context, w Window) error {
	orientation := emulation.ScreenOrientation{Type: emulation.ScreenOrientationTypePortraitPrimary}
	if w.Width > w.Height {
		orientation.Type = emulation.ScreenOrientationTypeLandscapePrimary
	}
	p := emulation.SetDeviceMetricsOverrideParams{
		Width: int64(w.Width), Height: int64(w.Height), DeviceScaleFactor: max(1, w.Scale), Mobile: w.Touch,
	}
	if w.Touch {
		p.ScreenOrientation = &orientation
	}
	if _, err := call(ctx, t, emulation.SetDeviceMetricsOverride, p); err != nil {
		return err
	}
	_, err := call(ctx, t, emulation.SetTouchEmulationEnabled, emulation.SetTouchEmulationEnabledParams{Enabled: w.Touch})
	return err
}

func (t *chromiumTab) Go(ctx context.Context, address string) error {
	ctx, cancel := context.WithTimeout(ctx, openLimit)
	defer cancel()
	r, err := cdp.Call(ctx, t.target, page.Navigate, page.NavigateParams{URL: address})
	if err == nil && r.ErrorText != "" {
		err = errors.New(r.ErrorText)
	}
	return err
}

// context is that in which the scripts of a frame run; "" where it has none.
func (t *chromiumTab) context(f Frame) string {
	t.mu.Lock()
	defer t.mu.Unlock()
	if c := t.contexts[cdp.FrameID(f)]; c != nil {
		return c.UniqueID
	}
	return ""
}

func (t *chromiumTab) Evaluate(ctx context.Context, f Frame, expression string, into any) error {
	p := runtime.EvaluateParams{Expression: expression, ReturnByValue: new(true), AwaitPromise: new(true)}
	if f != "" {
		if p.UniqueContextID = t.context(f); p.UniqueContextID == "" {
			return ErrGone
		}
	}
	r, err := call(ctx, t, runtime.Evaluate, p)
	switch {
	case err != nil && f != "" && t.context(f) != p.UniqueContextID:
		return ErrGone
	case err != nil:
		return err
	case r.ExceptionDetails != nil:
		return fmt.Errorf("evaluating %.60s: %s", expression, thrown(r.ExceptionDetails))
	}
	return decode(r.Result.Value, into)
}

func (t *chromiumTab) Picture(ctx context.Context) ([]byte, error) {
	shot, err := call(ctx, t, page.CaptureScreenshot, page.CaptureScreenshotParams{
		Format: page.CaptureScreenshotFormatPng, OptimizeForSpeed: new(true),
	})
	return shot.Data, err
}

// between is the time from one small picture to the next: a few a second are enough.
const between = 60 * time.Millisecond

func (t *chromiumTab) Watch(ctx context.Context, width int, see func([]byte, time.Time)) (func(), error) {
	t.mu.Lock()
	t.see = see
	t.mu.Unlock()
	quality := int64(92)
	p := page.StartScreencastParams{Format: page.StartScreencastFormatJpeg, Quality: &quality}
	if width > 0 {
		quality, p.MaxWidth, p.MaxHeight, p.EveryNthFrame = 50, int64(width), 4*int64(width), 2
	}
	var err error
	for end := time.Now().Add(answerLimit); ; pause(ctx, between) { // while the page comes into its window, there is none to show
		if _, err = call(ctx, t, page.StartScreencast, p); err == nil || time.Now().After(end) || ctx.Err() != nil {
			break
		}
	}
	return func() {
		t.mu.Lock()
		t.see = nil
		t.mu.Unlock()
		call(ctx, t, page.StopScreencast, cdp.Empty{}) // a window that is gone sends nothing more
	}, err
}

// shown takes a picture of those that come, and has the next one come.
func (t *chromiumTab) shown(e *page.EventScreencastFrame) {
	t.mu.Lock()
	see := t.see
	t.mu.Unlock()
	if see == nil {
		return
	}
	see(e.Data, time.Now())
	pause(t.inside, between)
	call(t.inside, t, page.ScreencastFrameAck, page.ScreencastFrameAckParams{SessionID: e.SessionID}) // one of a stopped screencast needs none
}

func (t *chromiumTab) Offline(ctx context.Context, off bool) error {
	ctx, cancel := limited(ctx)
	defer cancel()
	return t.target.Call(ctx, "Network.emulateNetworkConditions", t.line(off), nil)
}

func (t *chromiumTab) Cannot() []string { return nil }
func (t *chromiumTab) Process() int     { return t.process }

func (t *chromiumTab) Gone() bool {
	t.mu.Lock()
	defer t.mu.Unlock()
	return t.gone || t.inside.Err() != nil
}

func (t *chromiumTab) Close() { t.end() }

// answer gives what stands in for an answer that would come over the line.
func (t *chromiumTab) answer(e *fetch.EventRequestPaused) {
	i := slices.IndexFunc(t.window.Answers, func(a Answer) bool { return a.Address == withoutQuery(e.Request.URL) })
	if i < 0 {
		call(t.inside, t, fetch.ContinueRequest, fetch.ContinueRequestParams{RequestID: e.RequestID})
		return
	}
	a := t.window.Answers[i]
	if a.Refuse {
		call(t.inside, t, fetch.FailRequest, fetch.FailRequestParams{RequestID: e.RequestID, ErrorReason: network.ErrorReasonBlockedByClient})
		return
	}
	p := fetch.FulfillRequestParams{RequestID: e.RequestID, ResponseCode: 200, Body: []byte(a.Body)}
	for _, h := range a.headers() {
		p.ResponseHeaders = append(p.ResponseHeaders, &fetch.HeaderEntry{Name: h[0], Value: h[1]})
	}
	call(t.inside, t, fetch.FulfillRequest, p) // a page that is gone needs no answer
}

// headers are those with which a portal's script comes: from everywhere, for everyone.
func (a *Answer) headers() [][2]string {
	return [][2]string{
		{"Content-Type", a.Type}, {"Access-Control-Allow-Origin", "*"}, {"Cross-Origin-Resource-Policy", "cross-origin"},
		{"Cache-Control", "no-store"}, {"Content-Length", fmt.Sprint(len(a.Body))},
	}
}
