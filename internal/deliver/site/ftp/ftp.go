// Package ftp keeps a site on a host that is reached by FTP (RFC 959), or FTP over TLS (RFC 4217), with passive connections.
package ftp

import (
	"bytes"
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net"
	"net/textproto"
	"path"
	"slices"
	"strings"
	"sync/atomic"
	"time"

	client "github.com/jlaffaye/ftp"

	"havvel/internal/deliver/site"
	"havvel/internal/deliver/site/idle"
	"havvel/internal/progress"
)

// Security says how a connection is protected.
type Security int

// How a connection is protected.
const (
	Explicit Security = iota // TLS by the AUTH command
	Implicit                 // TLS from the first byte
	Plain                    // not at all
)

type store struct {
	host, root string
	dial       func(context.Context) (*session, error)
	idle       chan *session // those that nobody uses now
	open       atomic.Int32  // how many there are in all
}

// A session is a connection for commands, and the work that it is used for now: connections for data end with that.
type session struct {
	*client.ServerConn
	ctx context.Context
}

const (
	lanes     = 4
	dialLimit = 20 * time.Second
)

// Open connects to a host and returns the store in a folder there.
func Open(ctx context.Context, host, root, user, password string, security Security) (site.Store, error) {
	name := host
	if h, _, err := net.SplitHostPort(host); err == nil {
		name = h
	} else {
		host = net.JoinHostPort(host, map[Security]string{Explicit: "21", Implicit: "990", Plain: "21"}[security])
	}
	// Hosts want the session of the first connection on the others, too. With TLS 1.3 they send tickets that nobody reads on a
	// connection that only uploads; closing it then resets it, and the end of the file is lost.
	secure := &tls.Config{
		ServerName:         name,
		MinVersion:         tls.VersionTLS12,
		MaxVersion:         tls.VersionTLS12,
		ClientSessionCache: tls.NewLRUClientSessionCache(8),
	}
	options := []client.DialOption{client.DialWithShutTimeout(idle.Limit)}
	switch security { // lines does it; this has the data's connections protected, too (RFC 4217 section 9)
	case Explicit:
		options = append(options, client.DialWithExplicitTLS(secure))
	case Implicit:
		options = append(options, client.DialWithTLS(secure))
	}
	s := &store{host: host, root: "/" + strings.Trim(root, "/"), idle: make(chan *session, lanes)}
	s.dial = func(ctx context.Context) (*session, error) {
		l := &session{ctx: ctx}
		c, err := client.Dial(host, slices.Concat(options, []client.DialOption{client.DialWithDialFunc(l.lines(host, secure, security))})...)
		if err != nil {
			return nil, s.classify(err)
		}
		if err := c.Login(user, password); err != nil {
			c.Quit()
			var said *textproto.Error
			if !errors.As(err, &said) {
				return nil, s.classify(err)
			}
			return nil, &site.Refused{
				Host:  host,
				Why:   fmt.Sprintf("it does not let %q in", user),
				Next:  "check the user in the address, and the password: havvel keys set stores one",
				Cause: err,
			}
		}
		l.ServerConn = c
		return l, nil
	}
	return s, s.with(ctx, func(c *client.ServerConn) error { return s.folders(c, s.root) })
}

// classify gives errors of the host their meaning (RFC 959, section 4.2).
func (s *store) classify(err error) error {
	var said *textproto.Error
	var refused *site.Refused
	var bad *tls.CertificateVerificationError
	switch {
	case err == nil, errors.Is(err, fs.ErrNotExist), errors.Is(err, fs.ErrExist), errors.Is(err, context.Canceled), errors.As(err, &refused):
		return err
	case errors.As(err, &bad):
		return &site.Refused{
			Host:  s.host,
			Why:   "its certificate is not valid: " + bad.Err.Error(),
			Next:  "is this the right host? ask the people who run it",
			Cause: err,
		}
	case !errors.As(err, &said):
		return &site.Unreachable{Host: s.host, Cause: err}
	case said.Code == client.StatusFileUnavailable:
		return fs.ErrNotExist
	case said.Code == client.StatusNotAvailable:
		return &site.Refused{
			Host:  s.host,
			Why:   "it takes no more connections now: " + said.Msg,
			Next:  "close other connections to it, and run the same command again",
			Cause: err,
		}
	case said.Code == 452 || said.Code == 552 || said.Code == 451:
		return &site.Refused{
			Host:  s.host,
			Why:   "it can't write the file (is its disk full?): " + said.Msg,
			Next:  "make room on the host, and run the same command again: it goes on where it stopped",
			Cause: err,
		}
	}
	return &site.Refused{Host: s.host, Why: said.Msg, Next: "may this user write to " + s.root + "?", Cause: err}
}

func (s *store) path(name string) string { return path.Join(s.root, name) }
func (s *store) Lanes() int              { return lanes }

func (s *store) Close() error {
	for {
		select {
		case c := <-s.idle:
			s.drop(c)
		default:
			return nil
		}
	}
}

// folders makes a folder and those above it.
func (s *store) folders(c *client.ServerConn, folder string) error {
	if folder == "/" || c.ChangeDir(folder) == nil {
		return c.ChangeDir("/")
	}
	if err := s.folders(c, path.Dir(folder)); err != nil {
		return err
	}
	err := c.MakeDir(folder)
	if err != nil && c.ChangeDir(folder) == nil {
		err = nil // another lane made it
	}
	if errors.Is(s.classify(err), fs.ErrNotExist) {
		return &site.Refused{
			Host:  s.host,
			Why:   "the folder " + folder + " can't be made",
			Next:  "name a folder that this user may write to",
			Cause: err,
		}
	}
	return err
}

const part = ".havvel-part"

func (s *store) List(ctx context.Context, folder string) (map[string]int64, error) {
	sizes := map[string]int64{}
	err := s.with(ctx, func(c *client.ServerConn) error { return list(ctx, c, s.path(folder), "", sizes) })
	if errors.Is(err, fs.ErrNotExist) {
		return sizes, nil
	}
	return sizes, err
}

func list(ctx context.Context, c *client.ServerConn, folder, prefix string, sizes map[string]int64) error {
	if err := ctx.Err(); err != nil {
		return err
	}
	if err := c.ChangeDir(folder); err != nil { // some hosts list a folder that isn't there as empty, and break names with blanks
		return err
	}
	entries, err := c.List(".")
	if err != nil {
		return err
	}
	for _, e := range entries {
		name := path.Join(prefix, e.Name)
		switch {
		case e.Name == "." || e.Name == "..":
		case e.Type == client.EntryTypeFolder:
			if err := list(ctx, c, path.Join(folder, e.Name), name, sizes); err != nil {
				return err
			}
		case !strings.HasSuffix(name, part):
			sizes[name] = int64(e.Size)
		}
	}
	return nil
}

func (s *store) Names(ctx context.Context, folder string) (names []string, err error) {
	err = s.with(ctx, func(c *client.ServerConn) error {
		if err := c.ChangeDir(s.path(folder)); err != nil {
			return err
		}
		entries, err := c.List(".")
		for _, e := range entries {
			if e.Name != "." && e.Name != ".." {
				names = append(names, e.Name)
			}
		}
		return err
	})
	return names, err
}

func (s *store) Read(ctx context.Context, name string) (data []byte, err error) {
	err = s.with(ctx, func(c *client.ServerConn) error {
		r, err := c.Retr(s.path(name))
		if said(err) && absent(c, s.path(name)) {
			return fs.ErrNotExist
		}
		if err != nil {
			return err
		}
		data, err = io.ReadAll(io.LimitReader(r, 64<<20))
		return errors.Join(err, r.Close())
	})
	return data, err
}

// Put implements site.Store. The unfinished file's name holds its content's hash, so that only the same content goes on.
func (s *store) Put(ctx context.Context, f site.File, sent func(int64)) error {
	from, err := f.Open()
	if err != nil {
		return err
	}
	defer from.Close()
	to := s.path(f.Name)
	unfinished := fmt.Sprintf("%s.%.8s%s", to, f.SHA256, part)
	return s.with(ctx, func(c *client.ServerConn) error {
		var at int64
		if size, err := c.FileSize(unfinished); err == nil && size <= f.Bytes {
			at = size
		}
		var taken int64
		store := func() error {
			if _, err := from.Seek(at, io.SeekStart); err != nil {
				return err
			}
			sent(-taken) // before an answer that came after the bytes
			taken = 0
			r := progress.Reader(ctx, from, progress.Count(func(n int64) { taken += n; sent(n) }))
			if f.Bytes == 0 {
				r = bytes.NewReader(nil)
			}
			if at > 0 {
				return c.Append(unfinished, r)
			}
			return c.Stor(unfinished, r)
		}
		if at < f.Bytes || f.Bytes == 0 {
			err := store()
			if noFile(err) || said(err) && c.ChangeDir(path.Dir(to)) != nil { // its folder is missing, or another lane has made it meanwhile
				if err = s.folders(c, path.Dir(to)); err == nil {
					err = store()
				}
			}
			if err != nil {
				return err
			}
		}
		if size, err := c.FileSize(unfinished); err == nil && size != f.Bytes {
			c.Delete(unfinished)
			return fmt.Errorf("%s did not arrive whole", f.Name)
		}
		return c.Rename(unfinished, to)
	})
}

// said reports whether an error is an answer of the host: which number stands for what differs between hosts.
func said(err error) bool {
	var answer *textproto.Error
	return errors.As(err, &answer)
}

// noFile reports whether a file was not made, by the numbers that most hosts answer with, before a byte of it went out.
func noFile(err error) bool {
	var answer *textproto.Error
	return errors.As(err, &answer) && (answer.Code == client.StatusFileUnavailable || answer.Code == client.StatusBadFileName)
}

// absent reports whether there is no file of that name, by the list of its folder.
func absent(c *client.ServerConn, name string) bool {
	if c.ChangeDir(path.Dir(name)) != nil {
		return true
	}
	entries, err := c.List(".")
	return err == nil && !slices.ContainsFunc(entries, func(e *client.Entry) bool { return e.Name == path.Base(name) })
}

// Copy implements site.Store: FTP has no way to.
func (s *store) Copy(context.Context, string, string) error { return errors.ErrUnsupported }

func (s *store) Swap(ctx context.Context, f site.File) error { return s.Put(ctx, f, func(int64) {}) }

func (s *store) Claim(ctx context.Context, name string) error {
	return s.with(ctx, func(c *client.ServerConn) error {
		if c.ChangeDir(s.path(name)) == nil {
			return fs.ErrExist // some hosts take making what is there for done
		}
		err := c.MakeDir(s.path(name))
		if err != nil && c.ChangeDir(s.path(name)) == nil {
			return fs.ErrExist
		}
		return err
	})
}

func (s *store) Remove(ctx context.Context, name string) error {
	err := s.with(ctx, func(c *client.ServerConn) error {
		if c.ChangeDir(s.path(name)) == nil {
			c.ChangeDir("/")
			return c.RemoveDirRecur(s.path(name))
		}
		err := c.Delete(s.path(name))
		if said(err) && !absent(c, s.path(name)) {
			return &site.Refused{Host: s.host, Why: name + " can't be removed", Next: "may this user remove files in " + s.root + "?", Cause: err}
		}
		return err
	})
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	return err
}
