package browser

import (
	"net/http"
	"time"
)

// An Event is something that happened in a window: one of the types below.
type Event interface{}

// sends reports whether a request of a method brings something along, instead of asking for a file.
func sends(method string) bool { return method != http.MethodGet && method != http.MethodHead }

// Events of requests. ID is the same in all of one request, also after it was sent elsewhere.
type (
	// Asked says that a page, a frame or a worker asked for something.
	Asked struct {
		ID      string
		Address string
		Kind    string // of what it is for: Document, Stylesheet, Image, Media, Font, Script, Fetch, WebSocket, Ping, Other …
		At      time.Time
		Worker  bool // one asks
		By      []Place
		Sends   bool // it brings something along: its method is neither GET nor HEAD, or it is a socket
	}
	// Answered says that an answer has begun.
	Answered struct {
		ID       string
		Status   int
		Type     string // without parameters
		Encoding string // its Content-Encoding
	}
	// Ended says that a request ended.
	Ended struct {
		ID     string
		At     time.Time
		Bytes  int64  // that came over the line, 0 where it isn't known
		Failed string // why it did, in the browser's words; "" where all came
	}
)

// Events of scripts.
type (
	// Thrown is an exception that nothing caught.
	Thrown struct {
		Message string
		Worker  bool
		Calls   []Place
	}
	// Logged is an error that a page wrote to the console.
	Logged struct {
		Message string
		Worker  bool
		Calls   []Place
	}
	// Complained is what the browser itself has against the page.
	Complained struct {
		Message string
		Place   Place
	}
	// Said is what was handed to the function Say.
	Said struct{ Text string }
)

// Events of pages.
type (
	// Arrived says that a frame has a new page.
	Arrived struct {
		Frame, Parent Frame // Parent is "" for the page itself
		Address       string
	}
	// Asks is a dialog, which the window closes with no.
	Asks struct{ Kind, Message string }
	// Crashed says that the page's process ended.
	Crashed struct{}
)

// A Place is one in a script or page.
type Place struct {
	Address      string
	Line, Column int    // from 1; 0 where it isn't known
	Function     string // around it; "" where it has no name
}
