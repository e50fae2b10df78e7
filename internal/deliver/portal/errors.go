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

	after time.Duration // that the portal wants us to wait; 0 when it doesn't say
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
	if len(e.Reasons) == 0 {
		return ""
	}
	return ": " + strings.Join(e.Reasons, "; ")
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
	return fault.Tell(e, fault.Unreachable, "nothing was lost; run the same command again when it can be reached")
}

// Puzzled says that rulebook and portal don't fit together.
type Puzzled struct {
	Portal, Step, Message string
}

func (e *Puzzled) Error() string {
	return fmt.Sprintf("the rulebook and %s don't fit together at step %q: %s", e.Portal, e.Step, e.Message)
}

// Fault tells it.
func (e *Puzzled) Fault() *fault.Error {
	return fault.Tell(e, fault.Unreachable, "the portal may have changed, or its rulebook needs a correction")
}
