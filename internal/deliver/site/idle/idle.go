// Package idle ends connections on which nothing moves any more, so that a host that is frozen is waited for no longer than a limit.
package idle

import (
	"context"
	"errors"
	"net"
	"os"
	"sync/atomic"
	"time"
)

// Limit is how long nothing may move.
const Limit = 30 * time.Second

// Silent says that nothing moved for too long.
type Silent struct{ For time.Duration }

func (e *Silent) Error() string { return "nothing came for " + e.For.String() }

// Timeout implements net.Error.
func (e *Silent) Timeout() bool { return true }

// Temporary implements net.Error.
func (e *Silent) Temporary() bool { return false }

// A conn is one whose reads and writes end when nothing moves.
type conn struct {
	net.Conn
	limit   time.Duration
	answers bool // only what comes in is a sign of life
	last    atomic.Int64
}

// Conn is a connection on which a read or write ends with *Silent when nothing moved in either direction for a limit.
func Conn(c net.Conn, limit time.Duration) net.Conn { return &conn{Conn: c, limit: limit} }

// Answering is the same for a protocol in which the other side answers all the time: only what comes in counts.
func Answering(c net.Conn, limit time.Duration) net.Conn {
	return &conn{Conn: c, limit: limit, answers: true}
}

// Dial connects as http.Transport wants it.
func Dial(ctx context.Context, network, address string) (net.Conn, error) {
	d := net.Dialer{Timeout: 20 * time.Second, KeepAlive: 15 * time.Second}
	c, err := d.DialContext(ctx, network, address)
	if err != nil {
		return nil, err
	}
	return Conn(c, Limit), nil
}

func (c *conn) moved() { c.last.Store(time.Now().UnixNano()) }

// Read implements net.Conn.
func (c *conn) Read(p []byte) (int, error) {
	for began := time.Now(); ; {
		last := time.Unix(0, c.last.Load())
		if last.Before(began) {
			last = began
		}
		c.Conn.SetReadDeadline(last.Add(c.limit))
		n, err := c.Conn.Read(p)
		if n > 0 {
			c.moved()
		}
		if n > 0 || !errors.Is(err, os.ErrDeadlineExceeded) {
			return n, err
		}
		if time.Since(time.Unix(0, c.last.Load())) >= c.limit {
			return 0, &Silent{c.limit}
		}
	}
}

// Write implements net.Conn. Large pieces go out bit by bit, so that a slow line is none that stands still.
func (c *conn) Write(p []byte) (n int, err error) {
	const bit = 16 << 10
	for len(p) > 0 || n == 0 {
		c.Conn.SetWriteDeadline(time.Now().Add(c.limit))
		m, err := c.Conn.Write(p[:min(bit, len(p))])
		n += m
		if m > 0 && !c.answers {
			c.moved()
		}
		if errors.Is(err, os.ErrDeadlineExceeded) {
			err = &Silent{c.limit}
		}
		if p = p[m:]; err != nil || len(p) == 0 {
			return n, err
		}
	}
	return n, nil
}
