// Package fault is the one form that errors have when they reach somebody: what kind they are, what could not be done and why, where,
// and what to do next. Packages return faults, or errors of their own that can be told as one; any other error is a failure of this
// machine.
package fault

import (
	"errors"
	"fmt"
	"slices"
	"strings"
)

// A Kind says whose turn it is after an error. Exit codes follow from it.
type Kind int

// The kinds.
const (
	Here        Kind = iota // something on this machine is missing or failed
	No                      // the answer is no, or can't be told where it was required
	Usage                   // the command line or a settings file is wrong, or what it names is
	Unreachable             // a destination can't be reached, or the outcome of a request is not known
)

// String is the kind in one word, as it stands in JSON.
func (k Kind) String() string { return [...]string{"here", "no", "usage", "unreachable"}[k] }

// A Position is a place in a file that somebody wrote.
type Position struct {
	File         string
	Line, Column int // from 1; 0 when not known
}

// String writes a position as compilers do.
func (p Position) String() string {
	if p.Line == 0 {
		return p.File
	}
	return fmt.Sprintf("%s:%d:%d", p.File, p.Line, p.Column)
}

// An Error is a fault.
type Error struct {
	Kind  Kind
	What  string   // what could not be done, to which file or destination, and why; without an end stop
	Next  string   // what to do about it; may be empty
	At    Position // its File is "" when it stands in no file
	Cause error    // may be nil; What tells it already
}

// Error is the place and what happened, without what to do next.
func (e *Error) Error() string {
	if e.At.File == "" {
		return e.What
	}
	return e.At.String() + ": " + e.What
}

func (e *Error) Unwrap() error { return e.Cause }

// Then sets what to do about it, and returns the error.
func (e *Error) Then(format string, args ...any) *Error {
	e.Next = fmt.Sprintf(format, args...)
	return e
}

// New makes a fault. The format may wrap its cause, as that of fmt.Errorf may.
func New(k Kind, format string, args ...any) *Error {
	err := fmt.Errorf(format, args...)
	return &Error{Kind: k, What: err.Error(), Cause: errors.Unwrap(err)}
}

// Said is an answer of no of which everything has been said.
var Said error = &Error{Kind: No}

// A Teller is an error of its own that says how it is told.
type Teller interface {
	error
	Fault() *Error
}

// Tell is an error of its own as a fault, in its own words; next may be empty.
func Tell(err error, k Kind, next string) *Error {
	return &Error{Kind: k, What: err.Error(), Next: next, Cause: err}
}

// Of tells an error as a fault, with the kind, place and next step of the innermost one that says them. It is nil for nil.
func Of(err error) *Error {
	if err == nil {
		return nil
	}
	told := &Error{What: err.Error(), Cause: err}
	var teller Teller
	var inner *Error
	switch {
	case errors.As(err, &teller):
		inner = teller.Fault()
	case !errors.As(err, &inner):
		if FullDisk(err) {
			told.Next = "the disk is full: free some space there and try again; what was there before is unchanged"
		}
		return told
	}
	told.Kind, told.Next, told.At = inner.Kind, inner.Next, inner.At
	if place := inner.At.String() + ": "; inner.At.File != "" {
		told.What = strings.Replace(told.What, place, "", 1)
	}
	return told
}

// All are the faults of an error, of which several may have been joined into one, each said once.
func All(err error) (list []*Error) {
	said := map[string]bool{}
	for _, e := range parts(err) {
		f := Of(e)
		if key := f.Error(); !said[key] {
			said[key] = true
			list = append(list, f)
		}
	}
	return list
}

// parts are the errors that were joined into one.
func parts(err error) (list []error) {
	if err == nil {
		return nil
	}
	several, ok := err.(interface{ Unwrap() []error })
	if !ok {
		return []error{err}
	}
	var words []string
	for _, e := range several.Unwrap() {
		words = append(words, e.Error())
		list = append(list, parts(e)...)
	}
	if strings.Join(words, "\n") != err.Error() { // it has words of its own around them
		return []error{err}
	}
	return list
}

// FullDisk reports whether an error says that a disk, or what one may keep on it, is full.
func FullDisk(err error) bool {
	return slices.ContainsFunc(fullCodes, func(code error) bool { return errors.Is(err, code) })
}
