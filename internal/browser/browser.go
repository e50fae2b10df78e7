// Package browser drives real browsers, most often without a window to look at: it opens pages in sizes of one's choice, tells what they
// ask for and complain of, takes pictures, presses and evaluates. Chromium is driven by its own protocol, Firefox by WebDriver BiDi, the
// W3C's. What a page is worth is left to others.
package browser

import (
	"context"
	"errors"
	"path/filepath"
	"strings"
	"time"

	"havvel/internal/fault"
)

// A Browser is a running browser. Its methods may be called at the same time.
type Browser interface {
	// Open opens a window with cookies and storage of its own. hear is told what happens in it, one thing after another, and must
	// return at once.
	Open(ctx context.Context, w Window, hear func(Event)) (Tab, error)

	// Name is what the browser calls itself, with its version; "" before there was a window.
	Name() string

	// Close ends the browser, and all windows with it.
	Close()
}

// A Tab is a window that Open opened. Points are in CSS pixels, from the upper left corner of the window. Each call has a limit of
// its own, after which its error says that the browser did not answer.
type Tab interface {
	// Go asks for a page. It doesn't wait until that is there.
	Go(ctx context.Context, address string) error

	// Size gives the window another size.
	Size(ctx context.Context, w Window) error

	// Evaluate gives the value of an expression, or of the promise that it is, as JSON into a pointer. The error is ErrGone where the
	// frame has no page, or gets another meanwhile.
	Evaluate(ctx context.Context, frame Frame, expression string, into any) error

	// Picture takes a picture of the window (PNG).
	Picture(ctx context.Context) ([]byte, error)

	// Watch has small pictures of the window come (JPEG), about width wide and as they change, until stop is called.
	Watch(ctx context.Context, width int, see func(picture []byte, at time.Time)) (stop func(), err error)

	// Key presses a key down, or lets it go. Keys have the names of the DOM (UI Events KeyboardEvent key Values), and Space.
	Key(ctx context.Context, key string, down bool) error

	// Mouse does one thing with the mouse.
	Mouse(ctx context.Context, m Mouse) error

	// Touch does one thing with a finger.
	Touch(ctx context.Context, m Motion, x, y float64) error

	// Offline takes the line away, or gives it back.
	Offline(ctx context.Context, off bool) error

	// Process is the browser's main process, below which all others are; 0 where it isn't known.
	Process() int

	// Cannot names what this browser can neither tell nor set of what the window should have.
	Cannot() []string

	// Running stops the script that keeps the page from answering, and tells where it was, the innermost call first.
	Running(ctx context.Context) ([]Place, error)

	// Gone reports whether somebody closed the window, or its browser.
	Gone() bool

	// Close closes the window.
	Close()
}

// A Frame is a frame of a page, as the browser numbers them. "" is the page itself.
type Frame string

// A Window says how a window is opened.
type Window struct {
	Width, Height int     // CSS pixels
	Scale         float64 // pixels of the screen for each of CSS; 0 for 1
	Touch         bool    // pressed with fingers, as on a phone

	Probe   string   // a script that runs in each page and frame before any other
	Answers []Answer // given in place of what would come over the line

	Slower   float64       // how many times slower the processor is; 0 for not at all
	Line     int64         // bytes a second that come at most; 0 for all
	Delay    time.Duration // of each answer
	Dark     bool          // the system's colours are dark
	Still    bool          // the system asks for little motion
	Language string        // as BCP 47 has it; "" for the browser's own
}

// An Answer is what a request gets that goes to an address, whatever its query.
type Answer struct {
	Address string
	Type    string // of its content
	Body    string
	Refuse  bool // as a blocker refuses it, instead
}

// Motion is what mouse and finger do.
type Motion string

// The motions. A finger has no wheel, and hovers nowhere.
const (
	Down  Motion = "down"
	Move  Motion = "move"
	Up    Motion = "up"
	Wheel Motion = "wheel"
)

// Mouse is one thing that is done with the mouse.
type Mouse struct {
	Motion Motion
	X, Y   float64
	Held   bool    // a move with the button down
	Right  bool    // the right button, and not the left
	Pixels float64 // of Wheel, down
}

// Say is the name of a function that pages find in window: what it is called with is told as Said. A probe takes it, and takes it away.
const Say = "havvelSay"

// Errors.
var (
	ErrGone     = errors.New("the frame has another page")                      // of Evaluate
	ErrNoAnswer = errors.New("it did not answer in time")                       // of all that is asked
	ErrNoWay    = errors.New("this browser has no way to do this from outside") // of what some browsers can't
)

// answerLimit is how long a browser may take for one answer.
const answerLimit = 10 * time.Second

// openLimit is how long it may take to open a window.
const openLimit = 3 * answerLimit

// Start starts the browser whose program path is, without a window to look at.
func Start(ctx context.Context, path string) (Browser, error) { return start(ctx, path, false) }

// StartShown starts it with windows that people see and use.
func StartShown(ctx context.Context, path string) (Browser, error) { return start(ctx, path, true) }

func start(ctx context.Context, path string, shown bool) (Browser, error) {
	if isFirefox(path) {
		return startFirefox(ctx, path, shown)
	}
	return startChromium(ctx, path, shown)
}

// isFirefox reports whether a program is Firefox, by its name.
func isFirefox(path string) bool {
	return strings.Contains(strings.ToLower(filepath.Base(path)), "firefox")
}

// Broken says that the browser failed, and not what it shows.
type Broken struct{ Cause error }

func (e *Broken) Error() string { return "the browser crashed or hung: " + e.Cause.Error() }
func (e *Broken) Unwrap() error { return e.Cause }

// Fault tells it.
func (e *Broken) Fault() *fault.Error {
	return fault.Tell(e, fault.Here, "run the same command again; if it happens again, name another browser with "+Variable)
}

// Failed makes a *Broken of what a browser said, or the reason of ctx where that has ended.
func Failed(ctx context.Context, err error) error {
	if err == nil || errors.Is(ctx.Err(), context.Canceled) {
		return ctx.Err()
	}
	if errors.Is(err, context.Canceled) || errors.Is(err, context.DeadlineExceeded) {
		err = ErrNoAnswer
	}
	return &Broken{err}
}

// limited bounds one question to a browser.
func limited(ctx context.Context) (context.Context, context.CancelFunc) {
	return context.WithTimeout(ctx, answerLimit)
}
