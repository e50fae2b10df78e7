package trial

import (
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"net/url"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/chromedp/cdproto/cdp"
	"github.com/chromedp/cdproto/inspector"
	"github.com/chromedp/cdproto/log"
	"github.com/chromedp/cdproto/network"
	"github.com/chromedp/cdproto/page"
	"github.com/chromedp/cdproto/runtime"
	"github.com/chromedp/chromedp"

	"havvel/internal/finding"
	"havvel/internal/serve"
)

// A Request is one file that the game asked for.
type Request struct {
	Path    string  `json:"path"` // inside the game; from / elsewhere on its host; or a whole address
	Kind    string  `json:"kind"` // of what it is for, in the browser's words
	Status  int     `json:"status"`
	Type    string  `json:"type"`
	Bytes   int64   `json:"bytes"` // that came over the line
	StartMS float64 `json:"start_ms"`
	EndMS   float64 `json:"end_ms"` // 0 while it has not ended
	Failed  string  `json:"failed,omitempty"`
	Foreign bool    `json:"foreign"`
	By      string  `json:"by,omitempty"` // the file of the game that asked for it, where the browser tells
	Line    int     `json:"line,omitempty"`
	Column  int     `json:"column,omitempty"`

	Encoding string `json:"encoding,omitempty"` // with which it came (Content-Encoding)
}

// A watcher collects what the browser and the game tell.
type watcher struct {
	mu       sync.Mutex
	base     string // address of the game
	page     string // of the page around it
	top      cdp.FrameID
	game     cdp.FrameID // the frame that the game is in
	contexts map[cdp.FrameID]*runtime.ExecutionContextDescription
	served   []serve.Served
	clock    float64   // of the browser, when the first request began, in seconds
	ended    time.Time // when the last request did
	requests map[network.RequestID]*Request
	order    []*Request
	heard    []serve.Event
	problems []finding.Finding
	dialogs  chan string
	crashed  bool
	away     string
	pages    int
}

func newWatcher() *watcher {
	return &watcher{
		requests: map[network.RequestID]*Request{},
		contexts: map[cdp.FrameID]*runtime.ExecutionContextDescription{},
		dialogs:  make(chan string, 16),
	}
}

// hear takes what the game says by its own calls and events.
func (w *watcher) hear(e serve.Event) {
	w.mu.Lock()
	defer w.mu.Unlock()
	if e.Kind == "call" || e.Kind == "event" {
		at, _ := slices.BinarySearchFunc(w.heard, e, func(a, b serve.Event) int { return cmp.Or(cmp.Compare(a.At, b.At), cmp.Compare(a.N, b.N)) })
		w.heard = slices.Insert(w.heard, at, e)
	}
}

// serve takes what was served.
func (w *watcher) serve(s serve.Served) {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.served = append(w.served, s)
}

// all lists the requests: those that the browser told, and those that only the server saw, which workers made. Of a worker's own
// script the browser tells the beginning only.
func (w *watcher) all() []*Request {
	list := slices.Clone(w.order)
	told := map[string]*Request{"favicon.ico": {EndMS: 1}}
	for _, r := range list {
		told[r.Path] = r
	}
	for _, s := range w.served {
		switch r := told[s.Path]; {
		case s.Path == "" || r != nil && r.EndMS > 0:
		case r != nil:
			r.Status, r.Type, r.Bytes, r.Encoding = s.Status, s.Type, s.Bytes, s.Encoding
			r.EndMS = r.StartMS + milliseconds(s.Ended.Sub(s.Began))
		default:
			r = &Request{Path: s.Path, Kind: "Worker", Status: s.Status, Type: s.Type, Bytes: s.Bytes, Encoding: s.Encoding,
				StartMS: milliseconds(s.Began.Sub(w.served[0].Began)), EndMS: milliseconds(s.Ended.Sub(w.served[0].Began))}
			told[s.Path] = r
			list = append(list, r)
		}
	}
	slices.SortStableFunc(list, func(a, b *Request) int { return cmp.Compare(a.StartMS, b.StartMS) })
	return list
}

func milliseconds(d time.Duration) float64 { return float64(d.Microseconds()) / 1000 }

// context is that in which the game's scripts run; 0 before there is one.
func (w *watcher) context() runtime.ExecutionContextID {
	w.mu.Lock()
	defer w.mu.Unlock()
	if c := w.contexts[w.game]; c != nil {
		return c.ID
	}
	return 0
}

// event takes what the browser tells. It must return at once.
func (w *watcher) event(ev any) {
	w.mu.Lock()
	defer w.mu.Unlock()
	switch e := ev.(type) {
	case *network.EventRequestWillBeSent:
		w.asked(e)
	case *network.EventResponseReceived:
		if r := w.requests[e.RequestID]; r != nil {
			r.Status, r.Type = int(e.Response.Status), e.Response.MimeType
			for name, v := range e.Response.Headers {
				if strings.EqualFold(name, "content-encoding") {
					r.Encoding = fmt.Sprint(v)
				}
			}
		}
	case *network.EventLoadingFinished:
		if r := w.requests[e.RequestID]; r != nil {
			r.EndMS, r.Bytes, w.ended = w.since(e.Timestamp.Float64()), int64(e.EncodedDataLength), time.Now()
		}
	case *network.EventLoadingFailed:
		if r := w.requests[e.RequestID]; r != nil {
			r.EndMS, r.Failed, w.ended = w.since(e.Timestamp.Float64()), e.ErrorText, time.Now()
		}
	case *runtime.EventExceptionThrown:
		w.thrown(e.ExceptionDetails)
	case *runtime.EventConsoleAPICalled:
		w.said(e)
	case *log.EventEntryAdded:
		w.logged(e.Entry)
	case *page.EventJavascriptDialogOpening:
		w.add(finding.Finding{ID: "trial-dialog", Message: fmt.Sprintf("the game opens a dialog (%s): %q", e.Type, e.Message),
			Fix: "show it in the game itself; portals block dialogs, and the game stands still until one is closed"})
		select {
		case w.dialogs <- e.Message:
		default:
		}
	case *page.EventFrameNavigated:
		w.arrived(e.Frame)
	case *runtime.EventExecutionContextCreated:
		w.began(e.Context)
	case *runtime.EventExecutionContextDestroyed:
		maps.DeleteFunc(w.contexts, func(_ cdp.FrameID, c *runtime.ExecutionContextDescription) bool {
			return c.UniqueID == e.ExecutionContextUniqueID
		})
	case *inspector.EventTargetCrashed:
		w.crashed = true
	}
}

func (w *watcher) since(at float64) float64 { return (at - w.clock) * 1000 }

func (w *watcher) asked(e *network.EventRequestWillBeSent) {
	address := e.Request.URL
	if strings.HasPrefix(address, "data:") || strings.HasPrefix(address, "blob:") || strings.Contains(address, "/~havvel/heard") ||
		strings.HasSuffix(address, "/favicon.ico") ||
		w.page != "" && strings.HasPrefix(address, w.page) ||
		strings.HasPrefix(address, "chrome") {
		return
	}
	if w.clock == 0 {
		w.clock = e.Timestamp.Float64()
	}
	r := &Request{Kind: string(e.Type), StartMS: w.since(e.Timestamp.Float64())}
	r.Path, r.Foreign = w.inside(address)
	r.By, r.Line, r.Column = w.initiator(e.Initiator)
	w.requests[e.RequestID] = r
	w.order = append(w.order, r)
}

// initiator is the place in the game that asked for something: the innermost call that stands in one of its files.
func (w *watcher) initiator(i *network.Initiator) (file string, line, column int) {
	if i == nil {
		return "", 0, 0
	}
	for stack := i.Stack; stack != nil; stack = stack.Parent {
		for _, frame := range stack.CallFrames {
			path, foreign := w.inside(frame.URL)
			switch {
			case frame.URL == "" || foreign || strings.HasPrefix(path, "~havvel") || strings.HasPrefix(path, "/"):
			case frame.LineNumber > 0 || !strings.HasSuffix(path, ".html"):
				return path, int(frame.LineNumber) + 1, int(frame.ColumnNumber) + 1
			case file == "":
				file = path // where the listener stands, too, which moves what is behind it
			}
		}
	}
	if file != "" {
		return file, 0, 0
	}
	if path, foreign := w.inside(i.URL); i.URL != "" && !foreign && !strings.HasPrefix(path, "/") {
		if i.LineNumber == 0 {
			return path, 0, 0
		}
		return path, int(i.LineNumber) + 1, int(i.ColumnNumber) + 1
	}
	return "", 0, 0
}

// inside is an address's path in the game; foreign is true when it leads elsewhere.
func (w *watcher) inside(address string) (path string, foreign bool) {
	address, _, _ = strings.Cut(address, "#")
	address, _, _ = strings.Cut(address, "?")
	if path, ok := strings.CutPrefix(address, w.base); ok {
		return cmp.Or(path, "index.html"), false
	}
	if u, err := url.Parse(w.base); err == nil && w.base != "" {
		if path, ok := strings.CutPrefix(address, u.Scheme+"://"+u.Host+"/"); ok {
			return "/" + path, false
		}
	}
	return address, true
}

func (w *watcher) thrown(d *runtime.ExceptionDetails) {
	message := d.Text
	if d.Exception != nil && d.Exception.Description != "" {
		message, _, _ = strings.Cut(d.Exception.Description, "\n")
	}
	f := finding.Finding{
		ID:      "trial-exception",
		Message: "an exception that nothing catches: " + message,
		Fix:     "fix it in the game; what comes after it does not run",
	}
	if d.URL != "" {
		f.File, _ = w.inside(d.URL)
		f.Line, f.Column = int(d.LineNumber)+1, int(d.ColumnNumber)+1
	}
	w.add(f)
}

// said takes errors that the game writes to the console.
func (w *watcher) said(e *runtime.EventConsoleAPICalled) {
	if e.Type != "error" && e.Type != "assert" {
		return
	}
	var words []string
	for _, a := range e.Args {
		text := strings.Trim(string(a.Value), `"`)
		if text == "" {
			text, _, _ = strings.Cut(a.Description, "\n")
		}
		words = append(words, text)
	}
	f := finding.Finding{
		ID:      "trial-console",
		Message: "the game says an error: " + strings.Join(words, " "),
		Fix:     "look for the words in the game's scripts",
	}
	if e.StackTrace != nil {
		for _, frame := range e.StackTrace.CallFrames {
			if path, foreign := w.inside(frame.URL); !foreign && frame.URL != "" && !strings.HasPrefix(path, "~havvel") {
				f.File, f.Line, f.Column = path, int(frame.LineNumber)+1, int(frame.ColumnNumber)+1
				if f.File != "index.html" || frame.LineNumber > 0 { // not the listener
					break
				}
			}
		}
	}
	w.add(f)
}

// logged takes what the browser itself complains of, other than requests, which are judged one by one.
func (w *watcher) logged(e *log.Entry) {
	if e.Source == "network" || e.Level != "error" && e.Source != "security" && e.Source != "intervention" && e.Source != "violation" {
		return
	}
	f := finding.Finding{
		ID:      "trial-blocked",
		Message: "the browser says: " + e.Text,
		Fix:     "the portal's page, or the browser, does not let the game do this; do without it, or ask for it on a press",
	}
	if strings.Contains(e.Text, "Content Security Policy") {
		f.Fix = "the page's own policy forbids it: allow it in the page's Content-Security-Policy, or take that away"
	}
	if e.URL != "" {
		f.File, _ = w.inside(e.URL)
		f.Line = int(e.LineNumber) + 1
	}
	w.add(f)
}

// began notes in which context the scripts of a frame run.
func (w *watcher) began(c *runtime.ExecutionContextDescription) {
	var about struct {
		IsDefault bool        `json:"isDefault"`
		FrameID   cdp.FrameID `json:"frameId"`
	}
	if json.Unmarshal(c.AuxData, &about) == nil && about.IsDefault {
		w.contexts[about.FrameID] = c
	}
}

// arrived notes that a frame has a new page, and which frame the game's is: the first that has its address.
func (w *watcher) arrived(f *cdp.Frame) {
	if w.base == "" {
		return
	}
	if w.game == "" && strings.HasPrefix(f.URL, w.base) {
		w.game = f.ID
	}
	if f.ParentID == "" && w.top == "" {
		w.top = f.ID
	}
	if f.ID == w.game || f.ID == w.top && w.game != "" {
		w.navigated(f.URL)
	}
}

func (w *watcher) navigated(address string) {
	w.pages++
	if w.pages > 1 && w.away == "" {
		where, foreign := w.inside(address)
		if foreign || where != "index.html" {
			w.away = where
			w.add(
				finding.Finding{
					ID:      "trial-away",
					Message: fmt.Sprintf("the game leaves its page, for %s; players lose it in the portal's frame", where),
					Fix:     "open other pages in a window of their own, and only when the player presses something",
				},
			)
		}
	}
}

// mostProblems of one view are kept.
const mostProblems = 50

// add keeps a problem, once.
func (w *watcher) add(f finding.Finding) {
	for _, o := range w.problems {
		if o.ID == f.ID && o.Message == f.Message && o.File == f.File && o.Line == f.Line {
			return
		}
	}
	if len(w.problems) < mostProblems {
		w.problems = append(w.problems, f)
	}
}

// events returns what was heard so far.
func (w *watcher) events() []serve.Event {
	w.mu.Lock()
	defer w.mu.Unlock()
	return append([]serve.Event(nil), w.heard...)
}

// work is what is still being loaded, "" for nothing, when the last request ended, and whether the page crashed.
func (w *watcher) work(began time.Time) (open string, ended time.Duration, crashed bool) {
	w.mu.Lock()
	defer w.mu.Unlock()
	for _, r := range w.order {
		switch r.Kind {
		case "Media", "Ping", "WebSocket", "EventSource", "CSPViolationReport":
			continue
		}
		if r.EndMS == 0 {
			open = r.Path
		}
	}
	if !w.ended.IsZero() {
		ended = w.ended.Sub(began)
	}
	return open, ended, w.crashed
}

// pending reports whether a request has not ended, and how many bytes have come.
func (w *watcher) pending() (open bool, bytes int64) {
	w.mu.Lock()
	defer w.mu.Unlock()
	for _, r := range w.all() {
		open = open || r.EndMS == 0
		bytes += r.Bytes
	}
	return open, bytes
}

// closeDialogs answers dialogs with no, so that the page goes on, until ctx is done.
func (w *watcher) closeDialogs(ctx context.Context) {
	for {
		select {
		case <-ctx.Done():
			return
		case <-w.dialogs:
			chromedp.Call(ctx, page.HandleJavaScriptDialog, page.HandleJavaScriptDialogParams{}) // one that is gone needs no answer
		}
	}
}
