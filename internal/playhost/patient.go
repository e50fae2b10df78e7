package playhost

import (
	"crypto/tls"
	"io"
	"net"
	"net/http"
	"os"
	"sync"
	"sync/atomic"
	"time"
)

// patience is how long one step of a read or a write may take. Who is slower than a step in that time is taken for gone.
const (
	patience  = time.Minute
	writeStep = 1 << 20
)

// patient is a listener whose connections are written to with patience, and no more.
type patient struct{ net.Listener }

// Accept implements net.Listener.
func (l patient) Accept() (net.Conn, error) {
	c, err := l.Listener.Accept()
	if err != nil {
		return nil, err
	}
	return &patientConn{Conn: c}, nil
}

type patientConn struct {
	net.Conn
	renewed atomic.Int64 // when the deadline was last set, in nanoseconds
}

// renew sets the deadline of the next step, unless that was done just now.
func (c *patientConn) renew() {
	now := time.Now()
	if now.UnixNano()-c.renewed.Load() > int64(patience/4) {
		c.renewed.Store(now.UnixNano())
		c.SetWriteDeadline(now.Add(patience))
	}
}

// Write implements net.Conn.
func (c *patientConn) Write(p []byte) (n int, err error) {
	for len(p) > 0 && err == nil {
		c.renew()
		var m int
		m, err = c.Conn.Write(p[:min(writeStep, len(p))])
		n, p = n+m, p[m:]
	}
	return n, err
}

// ReadFrom keeps the way from a file to the network open, on which the system copies.
func (c *patientConn) ReadFrom(r io.Reader) (n int64, err error) {
	of, limited := r.(*io.LimitedReader)
	if !limited {
		of = &io.LimitedReader{R: r, N: 1<<63 - 1}
	}
	to, ok := c.Conn.(io.ReaderFrom)
	if !ok {
		return io.Copy(struct{ io.Writer }{c}, r)
	}
	for of.N > 0 && err == nil {
		c.renew()
		step := &io.LimitedReader{R: of.R, N: min(writeStep, of.N)}
		var m int64
		m, err = to.ReadFrom(step)
		n, of.N = n+m, of.N-m
		if m == 0 && err == nil {
			break
		}
	}
	return n, err
}

// patientBody is a request's body that is waited for with patience, and no more.
type patientBody struct {
	io.ReadCloser
	by *http.ResponseController
}

// Read implements io.Reader.
func (b *patientBody) Read(p []byte) (int, error) {
	b.by.SetReadDeadline(time.Now().Add(patience)) // where it can't be set there is no connection that could hang
	return b.ReadCloser.Read(p)
}

// A certificate is read anew when its file changed.
type certificate struct {
	file, key string

	mu      sync.Mutex
	pair    *tls.Certificate
	of      time.Time // the file's time
	checked time.Time
}

// get implements tls.Config.GetCertificate. A new one that can't be read leaves the one that there was.
func (c *certificate) get(*tls.ClientHelloInfo) (*tls.Certificate, error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.pair != nil && time.Since(c.checked) < time.Minute {
		return c.pair, nil
	}
	c.checked = time.Now()
	info, err := os.Stat(c.file)
	if err == nil && (c.pair == nil || !info.ModTime().Equal(c.of)) {
		var pair tls.Certificate
		if pair, err = tls.LoadX509KeyPair(c.file, c.key); err == nil {
			c.pair, c.of = &pair, info.ModTime()
		}
	}
	if c.pair != nil {
		return c.pair, nil
	}
	return nil, err
}
