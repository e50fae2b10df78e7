// Package progress is how long work says how far it is. Core packages report to a Reporter;
// what becomes of the report (a bar, a line, nothing) is decided by the interface.
package progress

import (
	"context"
	"io"
)

// A Reporter hears how far one piece of work is. Begin and End are called in turn, Advance between them.
type Reporter interface {
	// Begin starts a piece of work of total units (bytes, unless what says otherwise).
	Begin(what string, total int64)
	// Advance adds n units to what is done. A negative n takes back what must be done again.
	Advance(n int64)
	// End closes the piece of work, finished or not.
	End()
}

// None reports to nobody.
var None Reporter = none{}

type none struct{}

func (none) Begin(string, int64) {}
func (none) Advance(int64)       {}
func (none) End()                {}

// Reader counts what is read from R and tells it to To. It fails with the context's error once that is done.
type Reader struct {
	Ctx context.Context
	R   io.Reader
	To  Reporter
}

// Read implements io.Reader.
func (r *Reader) Read(p []byte) (int, error) {
	if err := r.Ctx.Err(); err != nil {
		return 0, err
	}
	n, err := r.R.Read(p)
	if n > 0 {
		r.To.Advance(int64(n))
	}
	return n, err
}

// Count is a Reporter that is only told how much was done.
type Count func(n int64)

// Begin implements Reporter.
func (Count) Begin(string, int64) {}

// Advance implements Reporter.
func (c Count) Advance(n int64) { c(n) }

// End implements Reporter.
func (Count) End() {}
