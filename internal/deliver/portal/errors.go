package portal

import (
	"errors"
	"fmt"
	"net/http"
	"strings"
	"time"

	"havvel/internal/deliver/neterr"
	"havvel/internal/fault"
)

// Refused says that the portal said no.
type Refused struct {
	Portal, Step string
	Status       int
	Reasons      []string // in the portal's words; may be empty
	Fields       []string // of the page, that the reasons are about; the portal's names, side by side with reasons, where it says
	Key          bool     // it is the key that was refused
	Of           string   // the name of the file that the step was made for; "" for none

	after time.Duration // that the portal wants us to wait; 0 when it doesn't say
	busy  bool          // it did nothing, and may be asked again
	why   string        // what makes it a no, where the portal's words don't
}

func (e *Refused) Error() string {
	if e.Key {
		return fmt.Sprintf("%s refused the key (status %d)%s", e.Portal, e.Status, e.inWords())
	}
	return fmt.Sprintf("%s said no at step %q (status %d %s)%s", e.Portal, e.Step, e.Status, http.StatusText(e.Status), e.inWords())
}

// Fault tells it.
func (e *Refused) Fault() *fault.Error {
	told := fault.Tell(e, fault.No, "")
	if e.Key {
		told.Next = "check the key: is it the right one, complete, and still valid?"
	}
	return told
}

func (e *Refused) inWords() string {
	if len(e.Reasons) > 0 {
		return ": " + strings.Join(e.Reasons, "; ")
	}
	if e.why != "" {
		return ": " + e.why
	}
	return ""
}

// Unreachable says that the portal could not be reached, or broke off.
type Unreachable struct {
	Portal, Step string
	Host         string // without user information, path and query
	Cause        error
}

func (e *Unreachable) Error() string {
	return fmt.Sprintf("can't reach %s at %s: %s", e.Portal, e.Host, e.reason())
}

func (e *Unreachable) Unwrap() error { return e.Cause }

// reason says in words what happened to the connection, and at which step where that is no matter of the address.
func (e *Unreachable) reason() string {
	switch {
	case errors.Is(e.Cause, errIdle):
		return fmt.Sprintf("no answer in time at step %q", e.Step)
	case neterr.Nobody(e.Cause):
		return neterr.Why(e.Cause)
	}
	return fmt.Sprintf("%s at step %q", neterr.Why(e.Cause), e.Step)
}

// Fault tells it.
func (e *Unreachable) Fault() *fault.Error {
	return fault.Tell(e, fault.Unreachable, "run the same command again when it can be reached; it goes on where it was")
}

// Lost says that the answer to a write didn't arrive, so that nobody here knows whether it was done.
type Lost struct {
	Portal, Step string
	Host         string
	Cause        error
	Before       bool // it was lost in an earlier try
}

func (e *Lost) Error() string {
	if e.Before {
		return fmt.Sprintf("the last time, no answer came from %s to step %q, so whether it was done is unknown", e.Portal, e.Step)
	}
	var odd *Puzzled
	if errors.As(e.Cause, &odd) {
		return fmt.Sprintf("what %s answered to step %q can't be understood (%s), so whether it was done is unknown",
			e.Portal, e.Step, odd.Message)
	}
	why := "no answer in time"
	if !errors.Is(e.Cause, errIdle) {
		why = neterr.Why(e.Cause)
	}
	return fmt.Sprintf("no answer came from %s to step %q (%s), so whether it was done is unknown", e.Portal, e.Step, why)
}

// again is the error where the request can be made again, so that it doesn't matter whether it was done.
func (e *Lost) again() error {
	return &Unreachable{Portal: e.Portal, Step: e.Step, Host: e.Host, Cause: e.Cause}
}

func (e *Lost) Unwrap() error { return e.Cause }

// Fault tells it.
func (e *Lost) Fault() *fault.Error {
	return fault.Tell(e, fault.Unreachable, "look at your page there; --again makes the request once more")
}

// Puzzled says that rulebook and portal don't fit together.
type Puzzled struct {
	Portal, Step, Message string

	cause error
	yes   bool // the portal had said yes before
}

func (e *Puzzled) Error() string {
	return fmt.Sprintf("the rulebook and %s don't fit together at step %q: %s", e.Portal, e.Step, e.Message)
}

func (e *Puzzled) Unwrap() error { return e.cause }

// Fault tells it.
func (e *Puzzled) Fault() *fault.Error {
	return fault.Tell(e, fault.Unreachable, "the portal may have changed, or its rulebook needs a correction")
}
