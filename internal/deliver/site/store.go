// Package site keeps versions of a build on a host that just keeps files. Every version has a folder of its own that never
// changes once it is complete; one small file says which is current, and is the last thing written; a page at the root opens
// that version. How files get there is left to a Store, of which there is one for each protocol.
package site

import (
	"bytes"
	"context"
	"fmt"
	"io"

	"havvel/internal/deliver/neterr"
	"havvel/internal/deliver/site/trust"
	"havvel/internal/fault"
	"havvel/internal/pieces"
)

// A Store keeps files by names with slashes, relative to the site's root. Folders come and go with their files. It is safe
// for concurrent use. What is not there is fs.ErrNotExist; a host that can't be reached or broke off is *Unreachable, one that
// says no is *Refused.
type Store interface {
	// List returns the sizes of all files below a folder, by names relative to it; none when there is no such folder. Files
	// that a Put has not finished are not among them. likely names folders below it that are probably there, for hosts that list
	// one at a time.
	List(ctx context.Context, folder string, likely ...string) (map[string]int64, error)
	// Names returns the names of the files and folders right in a folder, "" for the root. A folder that is not there, or can't be
	// listed, is an error.
	Names(ctx context.Context, folder string) ([]string, error)
	// Fetch writes a file's content to somewhere.
	Fetch(ctx context.Context, name string, to io.Writer) error
	// Put makes a file, whole or not at all. Where the protocol can, it goes on where an earlier Put of the same content
	// broke off. sent is told of bytes as they go out.
	Put(ctx context.Context, f File, sent func(int64)) error
	// Swap replaces a small file as atomically as the protocol allows.
	Swap(ctx context.Context, f File) error
	// Claim makes a name that only one of several who try at the same time can make; the others get fs.ErrExist.
	Claim(ctx context.Context, name string) error
	// Remove takes a file, a claim, or a folder with all that is in it away. What is not there is no error.
	Remove(ctx context.Context, name string) error
	// Lanes is how many calls at the same time make sense.
	Lanes() int
	Close() error
}

// largest is how much Read returns, in bytes.
const largest = 64 << 20

// Read returns a small file that a store keeps.
func Read(ctx context.Context, s Store, name string) ([]byte, error) {
	var b bounded
	err := s.Fetch(ctx, name, &b)
	return b.Bytes(), err
}

// bounded is a buffer that takes no more than largest.
type bounded struct{ bytes.Buffer }

func (b *bounded) Write(p []byte) (int, error) {
	if b.Len()+len(p) > largest {
		return 0, fmt.Errorf("it is larger than %d MB", largest>>20)
	}
	return b.Buffer.Write(p)
}

// A File is what a Store is to keep.
type File struct {
	Name     string
	Bytes    int64
	SHA256   string // hex
	Type     string // Content-Type, for hosts that keep it
	Encoding string // Content-Encoding, "" for none
	Cache    string // Cache-Control
	There    int64  // how many of its first bytes an earlier Put of the same content left under this name
	Open     func() (io.ReadSeekCloser, error)
}

// A Copier is a Store that can make a file from another one without sending it.
type Copier interface {
	// Copy makes a file from another one. The error is errors.ErrUnsupported where the host can't, and fs.ErrNotExist where there is no
	// such file.
	Copy(ctx context.Context, from, to string) error
}

// A Splicer is a Store that can make a file from parts of files that it keeps, and from what is sent.
type Splicer interface {
	// Splice makes a file from ranges, whose sources are names of the Store. The error is errors.ErrUnsupported where the host can't; then
	// nothing is left under the name.
	Splice(ctx context.Context, f File, from []pieces.Range, sent func(int64)) error
}

// A Grafter is a Store that can copy a folder with all that is in it.
type Grafter interface {
	// Graft makes a folder from another one but for some files, all at once or not at all; folders are those below it. The error is
	// errors.ErrUnsupported where the host can't.
	Graft(ctx context.Context, from, to string, without, folders []string) error
}

// A Warmer is a Store that connects to its host only when it is asked something.
type Warmer interface {
	// Warm has connections open, as far as the host lets it.
	Warm(ctx context.Context)
}

// A Summer is a Store that can tell a file's SHA-256, in hex, without sending the file.
type Summer interface {
	Sum(ctx context.Context, name string) (string, error)
}

// Unreachable says that a host could not be reached, or broke off.
type Unreachable struct {
	Host  string // without user information
	Cause error
}

func (e *Unreachable) Error() string { return "can't reach " + e.Host + ": " + neterr.Why(e.Cause) }
func (e *Unreachable) Unwrap() error { return e.Cause }

// Fault tells it.
func (e *Unreachable) Fault() *fault.Error {
	return fault.Tell(e, fault.Unreachable, "nothing was lost; run the same command again when it can be reached")
}

// Refused says that a host said no.
type Refused struct {
	Host  string
	Why   string
	Next  string // what to do
	Cause error  // may be nil
}

func (e *Refused) Error() string { return e.Host + " says no: " + e.Why }
func (e *Refused) Unwrap() error { return e.Cause }

// Distrusted is a failure because of the host's certificate; nil where that is not the reason.
func Distrusted(host string, err error) error {
	if why, next, ok := trust.Doubt(err); ok {
		return &Refused{Host: host, Why: why, Next: next, Cause: err}
	}
	return nil
}

// Fault tells it.
func (e *Refused) Fault() *fault.Error { return fault.Tell(e, fault.No, e.Next) }
