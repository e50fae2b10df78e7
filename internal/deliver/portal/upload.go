package portal

import (
	"errors"
	"io"
	"sync"
)

// An upload is a body on its way.
type upload struct {
	io.Reader
	from   io.Closer
	moved  func()
	ended  func()
	closed sync.Once // an HTTP client may close a body more than once
}

func (u *upload) Read(p []byte) (int, error) {
	n, err := u.Reader.Read(p)
	u.moved()
	return n, err
}

func (u *upload) Close() (err error) {
	u.closed.Do(func() {
		u.ended()
		err = u.from.Close()
	})
	return err
}

// A chain reads one thing after the other; each is opened when its turn comes.
type chain struct {
	now  io.ReadCloser
	rest []func() (io.ReadCloser, error)
}

func (c *chain) Read(p []byte) (int, error) {
	for {
		if c.now == nil {
			if len(c.rest) == 0 {
				return 0, io.EOF
			}
			var err error
			if c.now, err = c.rest[0](); err != nil {
				return 0, err
			}
			c.rest = c.rest[1:]
		}
		n, err := c.now.Read(p)
		if !errors.Is(err, io.EOF) {
			return n, err
		}
		c.now.Close()
		c.now = nil
		if n > 0 {
			return n, nil
		}
	}
}

func (c *chain) Close() error {
	c.rest = nil
	if c.now == nil {
		return nil
	}
	return c.now.Close()
}
