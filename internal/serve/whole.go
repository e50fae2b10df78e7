package serve

import (
	"bytes"
	"context"
	"io"
	"net"
	"net/http"
	"time"
)

// Whole makes a server quicker for answers that are soon given. One that is held in memory leaves with its header in one piece; the
// standard library sends them in two. And nobody listens meanwhile whether the visitor leaves, which takes a second reader for each request:
// a request's context ends only with its answer. It returns the listener that the server serves on. A listener of TLS stays as it is.
func Whole(s *http.Server, l net.Listener) net.Listener {
	s.ConnContext = func(ctx context.Context, c net.Conn) context.Context {
		if own, ok := c.(*conn); ok {
			return context.WithValue(ctx, connKey{}, own)
		}
		return ctx
	}
	if tcp, ok := l.(*net.TCPListener); ok {
		return wholeListener{tcp}
	}
	return l
}

type connKey struct{}

type wholeListener struct{ *net.TCPListener }

func (l wholeListener) Accept() (net.Conn, error) {
	c, err := l.AcceptTCP()
	if err != nil {
		return nil, err
	}
	return &conn{TCPConn: c}, nil
}

// conn can wait with what is written until more comes. Only the goroutine that answers its requests uses it.
type conn struct {
	*net.TCPConn
	waits         bool
	lines         []byte // of the header, to be put behind the first line that is written
	waiting       []byte
	until, within time.Time // when reading is to end: as was asked for, and as the system was told
}

// Read gives nothing to whoever reads a single byte: that is the library's second reader, which then leaves. Requests are read in
// larger pieces.
func (c *conn) Read(p []byte) (int, error) {
	if len(p) == 1 {
		return 0, nil
	}
	if d := c.until.Sub(c.within); d < 0 || d > time.Second || c.until.IsZero() != c.within.IsZero() {
		if err := c.TCPConn.SetReadDeadline(c.until); err != nil {
			return 0, err
		}
		c.within = c.until
	}
	return c.TCPConn.Read(p)
}

// SetReadDeadline counts from the next Read, and to the second: the library sets it several times for each request, mostly without
// reading.
func (c *conn) SetReadDeadline(t time.Time) error {
	c.until = t
	return nil
}

func (c *conn) Write(p []byte) (int, error) {
	if !c.waits {
		return c.TCPConn.Write(p)
	}
	n := len(p)
	if first := bytes.IndexByte(p, '\n') + 1; len(c.lines) > 0 && first > 0 {
		c.waiting = append(append(c.waiting, p[:first]...), c.lines...)
		p, c.lines = p[first:], nil
	}
	c.waiting = append(c.waiting, p...)
	return n, nil
}

// ReadFrom sends what waits together with a content that is in memory.
func (c *conn) ReadFrom(r io.Reader) (int64, error) {
	h, ok := r.(*inMemory)
	if !ok {
		if err := c.flush(); err != nil {
			return 0, err
		}
		return c.TCPConn.ReadFrom(r)
	}
	before, n := len(c.waiting), len(h.data)
	parts := net.Buffers{c.waiting, h.data}
	c.waiting, h.data = c.waiting[:0], nil
	sent, err := parts.WriteTo(c.TCPConn)
	if err != nil {
		return max(0, sent-int64(before)), err
	}
	return int64(n), nil
}

func (c *conn) flush() error {
	if len(c.waiting) == 0 {
		return nil
	}
	_, err := c.TCPConn.Write(c.waiting)
	c.waiting = c.waiting[:0]
	return err
}

// inMemory is a content on its way. It has no WriteTo, so that it comes to ReadFrom as it is.
type inMemory struct{ data []byte }

func (h *inMemory) Read(p []byte) (int, error) {
	if len(h.data) == 0 {
		return 0, io.EOF
	}
	n := copy(p, h.data)
	h.data = h.data[n:]
	return n, nil
}

// together writes an answer in one piece, its header not built anew, and reports false where that can't be. In w's header stands nothing.
func together(w http.ResponseWriter, r *http.Request, a *Ready) bool {
	c, ok := r.Context().Value(connKey{}).(*conn)
	to, can := w.(interface {
		http.Flusher
		io.ReaderFrom
	})
	if !ok || !can {
		return false
	}
	h := w.Header()
	h["Content-Length"], h["Content-Type"] = a.length, nil // the type is among the lines
	c.waits, c.lines = true, a.lines
	to.Flush()                     // the header; else a part of the body is copied with it
	to.ReadFrom(&inMemory{a.data}) // an error here is a visitor who left
	c.waits, c.lines = false, nil
	c.flush() // nothing, unless the library has changed its way
	return true
}
