package tests

import (
	"io"
	"net"
	"sync/atomic"
	"testing"
)

// A relay passes connections on, counts what goes through, and can cut them.
type relay struct {
	address string
	sent    atomic.Int64 // bytes to the server
	cut     atomic.Int64 // close a connection after so many bytes of it; 0 for never
}

func newRelay(t testing.TB, to string) *relay {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { l.Close() })
	r := &relay{address: l.Addr().String()}
	go func() {
		for {
			in, err := l.Accept()
			if err != nil {
				return
			}
			go r.pass(in, to)
		}
	}()
	return r
}

func (r *relay) pass(in net.Conn, to string) {
	defer in.Close()
	out, err := net.Dial("tcp", to)
	if err != nil {
		return
	}
	defer out.Close()
	go func() {
		io.Copy(in, out)
		in.Close()
	}()
	from := io.Reader(in)
	if n := r.cut.Load(); n > 0 {
		from = io.LimitReader(in, n)
	}
	io.Copy(counting{out, &r.sent}, from)
}

type counting struct {
	io.Writer
	n *atomic.Int64
}

func (c counting) Write(p []byte) (int, error) {
	n, err := c.Writer.Write(p)
	c.n.Add(int64(n))
	return n, err
}
