package ftp

import (
	"cmp"
	"context"
	"crypto/tls"
	"errors"
	"io/fs"
	"net"
	"net/textproto"
	"slices"
	"time"

	client "github.com/jlaffaye/ftp"

	"havvel/internal/deliver/site"
	"havvel/internal/deliver/site/idle"
)

// lines makes the connections of a session: the first carries commands, the others data. Those go to a host that is known, whatever address
// the other side names: behind a router, that is often one of its own.
func (l *session) lines(dataHost string, secure *tls.Config, security Security) func(string, string) (net.Conn, error) {
	return func(network, address string) (net.Conn, error) {
		command := l.ServerConn == nil
		if !command {
			_, port, err := net.SplitHostPort(address)
			if err != nil {
				return nil, err
			}
			address = net.JoinHostPort(dataHost, port)
		}
		c, err := idle.Dial(l.ctx, network, address)
		if err != nil {
			return nil, err
		}
		if !command {
			context.AfterFunc(l.ctx, func() { c.Close() })
		}
		if security == Plain || command && security == Explicit {
			return c, nil
		}
		return tls.Client(c, secure), nil
	}
}

// fresh is how long a connection is believed to be open without being asked.
const fresh = 10 * time.Second

// take returns a connection that nobody else uses: an idle one, or a new one. A host that lets no more in is asked for none: then one of
// those that are open is waited for.
func (s *store) take(ctx context.Context) (*session, error) {
	for began := time.Now(); ; {
		if c := s.unused(); c != nil {
			return c, nil
		}
		if most := s.most.Load(); most == 0 || s.open.Load() < most {
			s.open.Add(1)
			c, err := s.dial(ctx)
			if err == nil {
				return c, nil
			}
			others := s.open.Add(-1) // where there are none, the host may still count those of a command before
			full := answered(err, client.StatusNotAvailable) || others > 0 && answered(err, client.StatusNotLoggedIn)
			if !full || time.Since(began) > idle.Limit {
				return nil, err
			}
			s.most.Store(others)
			if others > 1 {
				s.can.Note(site.Connections, int(others))
			}
		}
		select {
		case c := <-s.idle:
			return c, nil
		case <-ctx.Done():
			return nil, ctx.Err()
		case <-time.After(time.Second): // those that were open may be gone
		}
	}
}

// unused is an idle connection that is still open; nil for none.
func (s *store) unused() *session {
	for {
		select {
		case c := <-s.idle:
			if time.Since(c.used) < fresh || c.NoOp() == nil {
				return c
			}
			s.drop(c) // it was closed meanwhile
		default:
			return nil
		}
	}
}

// answered reports whether a host answered one of some codes (RFC 959 section 4.2.2): it takes no more connections, or none of this user.
func answered(err error, codes ...int) bool {
	var said *textproto.Error
	return errors.As(err, &said) && slices.Contains(codes, said.Code)
}

func (s *store) drop(c *session) {
	s.open.Add(-1)
	c.Quit()
}

// with does something on a connection that nobody else uses meanwhile. One that failed is not used again.
func (s *store) with(ctx context.Context, do func(*client.ServerConn) error) error {
	c, err := s.take(ctx)
	if err != nil {
		return err
	}
	c.ctx = ctx
	stop := context.AfterFunc(ctx, func() { c.Quit() })
	err = do(c.ServerConn)
	if !stop() {
		s.drop(c) // it was ended
		return cmp.Or(s.classify(err), ctx.Err())
	}
	var said *textproto.Error
	if err != nil && !errors.As(err, &said) && !errors.Is(err, fs.ErrNotExist) && !errors.Is(err, fs.ErrExist) {
		s.drop(c)
		return s.classify(err)
	}
	c.used = time.Now()
	select {
	case s.idle <- c:
	default:
		s.drop(c)
	}
	return s.classify(err)
}
