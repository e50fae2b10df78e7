package browser_test

import (
	"bytes"
	"context"
	"errors"
	"image"
	_ "image/jpeg"
	_ "image/png"
	"net/http"
	"net/http/httptest"
	"os"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"havvel/internal/browser"
)

// heard collects what a browser tells.
type heard struct {
	mu     sync.Mutex
	events []browser.Event
}

func (h *heard) take(e browser.Event) {
	h.mu.Lock()
	defer h.mu.Unlock()
	h.events = append(h.events, e)
}

// until waits for an event.
func until[E any](t *testing.T, h *heard, what string, is func(E) bool) E {
	t.Helper()
	for end := time.Now().Add(15 * time.Second); ; time.Sleep(20 * time.Millisecond) {
		h.mu.Lock()
		for _, e := range h.events {
			if e, ok := e.(E); ok && is(e) {
				h.mu.Unlock()
				return e
			}
		}
		all := slices.Clone(h.events)
		h.mu.Unlock()
		if time.Now().After(end) {
			t.Fatalf("%s was never told; told was:\n%+v", what, all)
		}
	}
}

// each runs a test in every browser there is. In CI, one that is missing fails.
func each(t *testing.T, run func(t *testing.T, b browser.Browser)) {
	for _, name := range []string{"chromium", "firefox"} {
		t.Run(name, func(t *testing.T) {
			path, err := browser.Find(name, "the test")
			if err != nil && os.Getenv("CI") == "" {
				t.Skip(err)
			}
			if err != nil {
				t.Fatal(err)
			}
			b, err := browser.Start(t.Context(), path)
			if err != nil {
				t.Fatal(err)
			}
			t.Cleanup(b.Close)
			run(t, b)
		})
	}
}

func TestWindows(t *testing.T) {
	games := httptest.NewServer(http.FileServer(http.Dir("testdata")))
	defer games.Close()
	pages := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Type", "text/html; charset=utf-8")
		w.Write([]byte(`<meta name="viewport" content="width=device-width"><body style="margin:0"><iframe style="border:0;width:100vw;height:100vh" src="` + games.URL + `/inner.html"></iframe>`))
	}))
	defer pages.Close()
	each(t, func(t *testing.T, b browser.Browser) {
		for _, touch := range []bool{false, true} {
			try(t, b, strings.Replace(pages.URL, "127.0.0.1", "localhost", 1), games.URL, touch)
		}
		if b.Name() == "" {
			t.Error("the browser has no name")
		}
	})
}

// try goes through all that a window can, in a frame of another site.
func try(t *testing.T, b browser.Browser, page, game string, touch bool) {
	h := &heard{}
	tab, err := b.Open(t.Context(), browser.Window{
		Width: 390, Height: 844, Scale: 2, Touch: touch, Probe: "window.havvelProbed = 1;",
		Answers: []browser.Answer{
			{Address: "https://portal.example/sdk.js", Type: "text/javascript", Body: "window.havvelSay('answered');"},
			{Address: "https://portal.example/module.js", Type: "text/javascript", Body: "export const name = 'a module';"},
		},
	}, h.take)
	if err != nil {
		t.Fatal(err)
	}
	defer tab.Close()
	if err := tab.Go(t.Context(), page); err != nil {
		t.Fatal(err)
	}
	inner := until(t, h, "the game's frame", func(e browser.Arrived) bool { return e.Address == game+"/inner.html" })
	top := until(t, h, "the page", func(e browser.Arrived) bool { return e.Address == page+"/" })
	if inner.Parent != top.Frame || top.Parent != "" {
		t.Errorf("frames are %+v and %+v", top, inner)
	}
	asked := until(t, h, "the game's request", func(e browser.Asked) bool { return strings.HasSuffix(e.Address, "data.json?x=1") })
	if asked.Kind != "Fetch" || len(asked.By) == 0 || asked.By[0].Address != game+"/inner.html" {
		t.Errorf("the request is %+v", asked)
	}
	missing := until(t, h, "the missing file", func(e browser.Asked) bool { return strings.HasSuffix(e.Address, "missing.json") })
	until(t, h, "its answer", func(e browser.Answered) bool { return e.ID == missing.ID && e.Status == 404 })
	until(t, h, "its end", func(e browser.Ended) bool { return e.ID == missing.ID && e.Failed == "" })
	worked := until(t, h, "the worker's request", func(e browser.Asked) bool { return strings.HasSuffix(e.Address, "data.json?w") })
	until(t, h, "the request of the worker's worker", func(e browser.Asked) bool { return strings.HasSuffix(e.Address, "data.json?nested") })
	until(t, h, "that request's end", func(e browser.Ended) bool { return e.ID == worked.ID && e.Bytes > 0 })
	x := until(t, h, "the exception", func(e browser.Thrown) bool { return strings.Contains(e.Message, "null") })
	if len(x.Calls) == 0 || x.Calls[0].Address != game+"/inner.html" || x.Calls[0].Line != 13 {
		t.Errorf("the exception is %+v", x)
	}
	x = until(t, h, "the worker's exception", func(e browser.Thrown) bool { return strings.Contains(e.Message, "lantern") })
	if firefox := len(tab.Cannot()) > 0; !firefox && (len(x.Calls) == 0 || x.Calls[0].Address != game+"/worker.js") {
		t.Errorf("the worker's exception is %+v", x)
	}
	until(t, h, "the console", func(e browser.Logged) bool { return e.Message == "wrong 7" })
	until(t, h, "the dialog", func(e browser.Asks) bool { return e.Kind == "confirm" && e.Message == "really?" })
	until(t, h, "its answer", func(e browser.Said) bool { return e.Text == "asked: false" })
	until(t, h, "the portal's script", func(e browser.Said) bool { return e.Text == "answered" })
	var state struct {
		Width, Probed int
		Ratio         float64
		Module        string
		Touch         bool
	}
	err = tab.Evaluate(t.Context(), inner.Frame, `({width: innerWidth, probed: havvelProbed, ratio: devicePixelRatio, module: havvelModule,
		touch: "ontouchstart" in window})`, &state)
	if err != nil || state.Width != 390 || state.Probed != 1 || state.Ratio != 2 || state.Module != "a module" || state.Touch != touch {
		t.Errorf("the game's frame says %+v, %v", state, err)
	}
	press(t, h, tab, touch)
	look(t, tab)
	if err := tab.Evaluate(t.Context(), "99", "1", nil); !errors.Is(err, browser.ErrGone) {
		t.Errorf("a frame that isn't there gives %v", err)
	}
}

// press presses keys, mouse and finger.
func press(t *testing.T, h *heard, tab browser.Tab, touch bool) {
	ctx := t.Context()
	must := func(err error) {
		t.Helper()
		if err != nil {
			t.Fatal(err)
		}
	}
	said := func(text string) {
		t.Helper()
		until(t, h, text, func(e browser.Said) bool { return e.Text == text })
	}
	if touch {
		must(tab.Touch(ctx, browser.Down, 120, 200))
		said("touchstart 120")
		must(tab.Touch(ctx, browser.Move, 140, 200))
		must(tab.Touch(ctx, browser.Up, 140, 200))
		said("touchend 0")
		return
	}
	must(tab.Mouse(ctx, browser.Mouse{Motion: browser.Down, X: 100, Y: 50}))
	said("mousedown 100")
	must(tab.Mouse(ctx, browser.Mouse{Motion: browser.Up, X: 100, Y: 50}))
	said("mouseup 100")
	for _, key := range []string{"ArrowLeft", "a", "Enter"} {
		must(tab.Key(ctx, key, true))
		said("keydown " + key)
		must(tab.Key(ctx, key, false))
		said("keyup " + key)
	}
	must(tab.Mouse(ctx, browser.Mouse{Motion: browser.Down, X: 90, Y: 50, Right: true}))
	must(tab.Mouse(ctx, browser.Mouse{Motion: browser.Up, X: 90, Y: 50, Right: true}))
	said("contextmenu 90")
	must(tab.Mouse(ctx, browser.Mouse{Motion: browser.Wheel, X: 80, Y: 50, Pixels: 100}))
	said("wheel 80")
}

// look takes pictures, in two sizes.
func look(t *testing.T, tab browser.Tab) {
	seen := make(chan []byte, 64)
	stop, err := tab.Watch(t.Context(), 160, func(p []byte, _ time.Time) {
		select {
		case seen <- p:
		default:
		}
	})
	if err != nil {
		t.Fatal(err)
	}
	select {
	case p := <-seen:
		if _, kind, err := image.Decode(bytes.NewReader(p)); err != nil || kind != "jpeg" {
			t.Errorf("what is seen is %s, %v", kind, err)
		}
	case <-time.After(10 * time.Second):
		t.Error("no small picture came")
	}
	stop()
	if err := tab.Size(t.Context(), browser.Window{Width: 844, Height: 390, Scale: 1}); err != nil {
		t.Fatal(err)
	}
	p, err := tab.Picture(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	m, kind, err := image.Decode(bytes.NewReader(p))
	if err != nil || kind != "png" || m.Bounds().Dx() != 844 || m.Bounds().Dy() != 390 {
		t.Errorf("the picture is %s of %v, %v", kind, m.Bounds(), err)
	}
}

// A browser that is killed is not the page's fault, and nobody waits for it.
func TestKilled(t *testing.T) {
	each(t, func(t *testing.T, b browser.Browser) {
		tab, err := b.Open(t.Context(), browser.Window{Width: 300, Height: 200}, func(browser.Event) {})
		if err != nil {
			t.Fatal(err)
		}
		p, err := os.FindProcess(tab.Process())
		if err != nil || tab.Process() == 0 {
			t.Fatal(err)
		}
		p.Kill()
		_, err = tab.Picture(t.Context())
		if err = browser.Failed(context.Background(), err); !errors.As(err, new(*browser.Broken)) {
			t.Errorf("a picture of a killed browser gives %v", err)
		}
		tab.Close()
	})
}
