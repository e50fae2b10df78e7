//go:build unix

package tests

import (
	"net"
	"testing"
	"time"
)

// window is how much of a connection is on its way at once over a line, in bytes.
const window = 256 << 10

// line is a long line to a server on this machine: what goes in comes out after half of a round trip, and each connection has a window
// of bytes that were not acknowledged. It returns the address at its near end.
func line(t testing.TB, to string, trip time.Duration) string {
	t.Helper()
	return lineAt(t, "127.0.0.1:0", to, trip)
}

// lineAt is the same with a near end of its own.
func lineAt(t testing.TB, at, to string, trip time.Duration) string {
	t.Helper()
	near, err := net.Listen("tcp", at)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { near.Close() })
	go func() {
		for {
			c, err := near.Accept()
			if err != nil {
				return
			}
			go func() {
				time.Sleep(trip) // to open it
				far, err := net.Dial("tcp", to)
				if err != nil {
					c.Close()
					return
				}
				go carry(far, c, trip)
				carry(c, far, trip)
			}()
		}
	}()
	return near.Addr().String()
}

// carry brings bytes from one end to the other, late.
func carry(to, from net.Conn, trip time.Duration) {
	type parcel struct {
		data []byte
		at   time.Time
	}
	const chunk = 16 << 10
	sent, free := make(chan parcel, window/chunk), make(chan time.Time, window/chunk)
	for range window / chunk {
		free <- time.Time{}
	}
	go func() {
		defer close(sent)
		for {
			time.Sleep(time.Until(<-free))
			data := make([]byte, chunk)
			n, err := from.Read(data)
			if n > 0 {
				sent <- parcel{data[:n], time.Now()}
			}
			if err != nil {
				return
			}
		}
	}()
	for p := range sent {
		time.Sleep(time.Until(p.at.Add(trip / 2)))
		if _, err := to.Write(p.data); err != nil {
			from.Close()
			continue
		}
		free <- p.at.Add(trip)
	}
	if c, ok := to.(*net.TCPConn); ok {
		c.CloseWrite()
	}
}
