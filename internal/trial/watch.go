package trial

import (
	"cmp"
	"encoding/json"
	"fmt"
	"net/url"
	"slices"
	"strings"
	"sync"
	"time"

	"havvel/internal/browser"
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

	sends bool // it brings something to the host, and asks for no file
}

// A watcher collects what the browser and the game tell.
type watcher struct {
	mu       sync.Mutex
	base     string // address of the game
	page     string // of the page around it
	front    string // of the game's own page, where that stands elsewhere than its files
	began    time.Time
	top      browser.Frame
	game     browser.Frame // the frame that the game is in
	ended    time.Time     // when the last request did
	requests map[string]*Request
	order    []*Request
	heard    []serve.Event
	problems []finding.Finding
	input    func(string) // is told what the player does, as JSON; nil where nobody asks
	crashed  bool
	away     bool // the game has left
	pages    int
}

func newWatcher(game, page string) *watcher {
	return &watcher{base: game, page: page, requests: map[string]*Request{}}
}

// begin starts the clock.
func (w *watcher) begin() time.Time {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.began = time.Now()
	return w.began
}

// frame is the one that the game is in; "" before there is one.
func (w *watcher) frame() browser.Frame {
	w.mu.Lock()
	defer w.mu.Unlock()
	return w.game
}

// sinceBegun is a time of the day, in milliseconds, since the page was asked for.
func (w *watcher) sinceBegun(at float64) float64 { return max(0, at-float64(w.began.UnixMicro())/1000) }

// hear takes what the game says by its own calls and events, which may come in another order than they were made.
func (w *watcher) hear(text string) {
	var e serve.Event
	if json.Unmarshal([]byte(text), &e) != nil {
		return
	}
	if e.Kind == "input" && w.input != nil {
		w.input(string(e.Detail))
	}
	if e.Kind != "call" && e.Kind != "event" {
		return
	}
	e.At = w.sinceBegun(e.At)
	at, _ := slices.BinarySearchFunc(w.heard, e, func(a, b serve.Event) int { return cmp.Or(cmp.Compare(a.At, b.At), cmp.Compare(a.N, b.N)) })
	w.heard = slices.Insert(w.heard, at, e)
}

func milliseconds(d time.Duration) float64 { return float64(d.Microseconds()) / 1000 }

// event takes what the browser tells. It must return at once.
func (w *watcher) event(ev browser.Event) {
	w.mu.Lock()
	defer w.mu.Unlock()
	switch e := ev.(type) {
	case browser.Asked:
		w.asked(e)
	case browser.Answered:
		if r := w.requests[e.ID]; r != nil {
			r.Status, r.Type, r.Encoding = e.Status, cmp.Or(e.Type, r.Type), cmp.Or(e.Encoding, r.Encoding)
		}
	case browser.Ended:
		if r := w.requests[e.ID]; r != nil {
			r.EndMS, r.Failed, w.ended = max(w.since(e.At), 0.001), e.Failed, time.Now()
			if e.Bytes > 0 {
				r.Bytes = e.Bytes
			}
		}
	case browser.Said:
		w.hear(e.Text)
	case browser.Thrown:
		w.thrown(e)
	case browser.Logged:
		w.logged(e)
	case browser.Complained:
		w.complained(e)
	case browser.Asks:
		w.add(finding.Finding{ID: "trial-dialog", Message: fmt.Sprintf("the game opens a dialog (%s): %q", e.Kind, e.Message),
			Fix: "show it in the game itself; portals block dialogs, and the game stands still until one is closed"})
	case browser.Arrived:
		w.arrived(e)
	case browser.Crashed:
		w.crashed = true
	}
}

func (w *watcher) since(at time.Time) float64 { return milliseconds(at.Sub(w.began)) }

func (w *watcher) asked(e browser.Asked) {
	address := e.Address
	if strings.HasPrefix(address, "data:") || strings.HasPrefix(address, "blob:") || strings.HasSuffix(address, "/favicon.ico") ||
		w.page != "" && strings.HasPrefix(address, w.page) || strings.HasPrefix(address, "chrome") || strings.HasPrefix(address, "about:") ||
		w.requests[e.ID] != nil { // it was sent elsewhere
		return
	}
	r := &Request{Kind: e.Kind, StartMS: max(0, w.since(e.At)), sends: e.Sends}
	r.Path, r.Foreign = w.inside(address)
	at := w.place(e.By)
	r.By, r.Line, r.Column = at.File, at.Line, at.Column
	w.requests[e.ID] = r
	w.order = append(w.order, r)
}

// place is where the game did something: the innermost of some places that stands in one of its files.
func (w *watcher) place(places []browser.Place) (f finding.Finding) {
	for _, p := range places {
		if path, foreign := w.inside(p.Address); p.Address != "" && !foreign && !strings.HasPrefix(path, "/") {
			f.File, f.Line, f.Column = path, p.Line, p.Column
			return f
		}
	}
	return f
}

// inside is an address's path in the game; foreign is true when it leads elsewhere.
func (w *watcher) inside(address string) (path string, foreign bool) {
	address, _, _ = strings.Cut(address, "#")
	address, _, _ = strings.Cut(address, "?")
	if address == w.front {
		return "index.html", false
	}
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

// in says where something is a worker's.
func in(worker bool) string {
	if worker {
		return "in a worker, "
	}
	return ""
}

func (w *watcher) thrown(e browser.Thrown) {
	f := w.place(e.Calls)
	f.ID, f.Message = "trial-exception", in(e.Worker)+"an exception that nothing catches: "+e.Message
	f.Fix = "fix it in the game; what comes after it does not run"
	w.add(f)
}

// logged takes errors that the game writes to the console.
func (w *watcher) logged(e browser.Logged) {
	f := w.place(e.Calls)
	f.ID, f.Message, f.Fix = "trial-console", in(e.Worker)+"the game says an error: "+e.Message, "look for the words in the game's scripts"
	w.add(f)
}

// complained takes what the browser itself complains of, other than requests, which are judged one by one.
func (w *watcher) complained(e browser.Complained) {
	f := w.place([]browser.Place{e.Place})
	f.ID, f.Message = "trial-blocked", "the browser says: "+e.Message
	f.Fix = "the portal's page, or the browser, does not let the game do this; do without it, or ask for it on a press"
	if strings.Contains(e.Message, "Content Security Policy") || strings.Contains(e.Message, "Content-Security-Policy") {
		f.Fix = "the page's own policy forbids it: allow it in the page's Content-Security-Policy, or take that away"
	}
	w.add(f)
}

// arrived notes that a frame has a new page, and which frame the game's is: the first that has its address.
func (w *watcher) arrived(e browser.Arrived) {
	if w.game == "" && (strings.HasPrefix(e.Address, w.base) || w.atFront(e.Address)) {
		w.game = e.Frame
	}
	if e.Parent == "" && w.top == "" {
		w.top = e.Frame
	}
	if e.Frame == w.game || e.Frame == w.top && w.game != "" {
		w.navigated(e.Address)
	}
}

// atFront reports whether an address is that of the game's own page, where that stands elsewhere than its files.
func (w *watcher) atFront(address string) bool {
	address, _, _ = strings.Cut(address, "#")
	address, _, _ = strings.Cut(address, "?")
	return w.front != "" && address == w.front
}

func (w *watcher) navigated(address string) {
	w.pages++
	where, foreign := w.inside(address)
	switch {
	case w.pages == 1, w.away, !foreign && where == "index.html":
	case !foreign && !strings.HasPrefix(where, "/"):
		w.add(
			finding.Finding{
				ID:      "trial-page",
				Message: fmt.Sprintf("the game goes on in another of its pages, %s", where),
				Fix:     "look whether that page needs a portal's script, too: havvel pack puts it into the entry page only",
			},
		)
	default:
		w.away = true
		w.add(
			finding.Finding{
				ID:      "trial-away",
				Message: fmt.Sprintf("the game leaves its page, for %s; players lose it in the portal's frame", where),
				Fix:     "open other pages in a window of their own, and only when the player presses something",
			},
		)
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

// last is the last thing that came or was heard; "" for nothing.
func (w *watcher) last() string {
	w.mu.Lock()
	defer w.mu.Unlock()
	at, words := 0.0, ""
	for _, r := range w.order {
		if r.EndMS > at {
			at, words = r.EndMS, "the last file that came was "+r.Path
			if r.By != "" && r.Line > 0 {
				words += fmt.Sprintf(", for which %s:%d asked", r.By, r.Line)
			}
		}
	}
	for _, e := range w.heard {
		if e.At > at {
			at, words = e.At, "the last thing that was heard was "+e.Name
		}
	}
	if words == "" {
		return ""
	}
	return fmt.Sprintf("%s, after %s", words, seconds(int(at)))
}

// pending reports whether a request has not ended, and how many bytes have come.
func (w *watcher) pending() (open bool, bytes int64) {
	w.mu.Lock()
	defer w.mu.Unlock()
	for _, r := range w.order {
		open = open || r.EndMS == 0
		bytes += r.Bytes
	}
	return open, bytes
}
