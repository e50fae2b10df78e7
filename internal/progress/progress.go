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

// Reader returns a reader that counts what is read from r and tells it to a reporter. It fails with the context's error once that is
// done.
func Reader(ctx context.Context, r io.Reader, to Reporter) io.Reader {
	return reading(func(p []byte) (int, error) {
		if err := ctx.Err(); err != nil {
			return 0, err
		}
		n, err := r.Read(p)
		if n > 0 {
			to.Advance(int64(n))
		}
		return n, err
	})
}

type reading func(p []byte) (int, error)

// Read implements io.Reader.
func (r reading) Read(p []byte) (int, error) { return r(p) }

// Count is a Reporter that is only told how much was done.
type Count func(n int64)

// Begin implements Reporter.
func (Count) Begin(string, int64) {}

// Advance implements Reporter.
func (c Count) Advance(n int64) { c(n) }

// End implements Reporter.
func (Count) End() {}
