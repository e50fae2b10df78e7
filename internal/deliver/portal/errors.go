package portal

import (
	"crypto/tls"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"strings"
	"syscall"
	"time"
)

// Refused says that the portal said no.
type Refused struct {
	Portal, Step string
	Status       int
	Reasons      []string // in the portal's words; may be empty
	Key          bool     // it is the key that was refused

	after time.Duration // that the portal wants us to wait; 0 when it doesn't say
}

func (e *Refused) Error() string {
	if e.Key {
		return fmt.Sprintf("%s refused the key (status %d)%s", e.Portal, e.Status, e.inWords())
	}
	return fmt.Sprintf("%s said no at step %q (status %d %s)%s", e.Portal, e.Step, e.Status, http.StatusText(e.Status), e.inWords())
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

// reason says in words what happened to the connection.
func (e *Unreachable) reason() string {
	var (
		name        *net.DNSError
		certificate *tls.CertificateVerificationError
		timeout     net.Error
		operation   *net.OpError
	)
	switch {
	case errors.Is(e.Cause, syscall.ECONNREFUSED):
		return "nothing answers there"
	case errors.As(e.Cause, &name):
		return "its name is not known; is this machine online, and is the address right?"
	case errors.As(e.Cause, &certificate):
		return "its certificate is not valid: " + certificate.Err.Error()
	case errors.Is(e.Cause, errIdle), errors.As(e.Cause, &timeout) && timeout.Timeout():
		return fmt.Sprintf("no answer in time at step %q", e.Step)
	case errors.Is(e.Cause, io.EOF), errors.Is(e.Cause, io.ErrUnexpectedEOF), errors.Is(e.Cause, syscall.ECONNRESET), errors.Is(e.Cause, syscall.EPIPE):
		return fmt.Sprintf("the connection broke off at step %q", e.Step)
	case errors.As(e.Cause, &operation):
		return fmt.Sprintf("the connection failed at step %q: %s", e.Step, operation.Err)
	}
	inner := e.Cause // the innermost cause names no address, which may hold a secret
	for errors.Unwrap(inner) != nil {
		inner = errors.Unwrap(inner)
	}
	return fmt.Sprintf("at step %q: %s", e.Step, inner)
}

// Puzzled says that rulebook and portal don't fit together.
type Puzzled struct {
	Portal, Step, Message string
}

func (e *Puzzled) Error() string {
	return fmt.Sprintf("the rulebook and %s don't fit together at step %q: %s", e.Portal, e.Step, e.Message)
}
