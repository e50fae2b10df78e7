// Package ftp keeps a site on a host that is reached by FTP (RFC 959), or FTP over TLS (RFC 4217), with passive connections.
package ftp

import (
	"bytes"
	"cmp"
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
	"sync"
	"sync/atomic"
	"time"

	client "github.com/jlaffaye/ftp"
	"golang.org/x/sync/singleflight"

	"havvel/internal/deliver/site"
	"havvel/internal/deliver/site/idle"
	"havvel/internal/deliver/site/pace"
	"havvel/internal/deliver/site/trust"
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
	most       atomic.Int32  // how many the host lets in, as far as it has said; 0 for as many as are wanted
	can        *site.Abilities
	pace       pace.Meter
	made       sync.Map // folders that are there
	making     singleflight.Group
}

// A session is a connection for commands, and the work that it is used for now: connections for data end with that.
type session struct {
	*client.ServerConn
	ctx  context.Context
	used time.Time
}

// Each lane needs a connection: more of them over a long line.
const (
	nearLanes = 6
	farLanes  = 12
	dialLimit = 20 * time.Second
)

// A Login says who we are, and how the host is reached.
type Login struct {
	User, Password string
	Security       Security
	Certificate    string // fingerprint of the host's certificate; "" for one that is vouched for
	DataHost       string // where the connections for files go; "" for the host itself

	Abilities *site.Abilities // what is known of the host; nil for nothing
}

// Open connects to a host and returns the store in a folder there.
func Open(ctx context.Context, host, root string, l Login) (site.Store, error) {
	name := host
	if h, _, err := net.SplitHostPort(host); err == nil {
		name = h
	} else {
		host = net.JoinHostPort(host, map[Security]string{Explicit: "21", Implicit: "990", Plain: "21"}[l.Security])
	}
	// Hosts want the session of the first connection on the others, too. With TLS 1.3 they send tickets that nobody reads on a
	// connection that only uploads; closing it then resets it, and the end of the file is lost.
	secure := trust.TLS(l.Certificate)
	secure.ServerName, secure.MaxVersion = name, tls.VersionTLS12
	secure.ClientSessionCache = tls.NewLRUClientSessionCache(8)
	options := []client.DialOption{client.DialWithShutTimeout(idle.Limit)}
	switch l.Security { // lines does it; this has the data's connections protected, too (RFC 4217 section 9)
	case Explicit:
		options = append(options, client.DialWithExplicitTLS(secure))
	case Implicit:
		options = append(options, client.DialWithTLS(secure))
	}
	s := &store{host: host, root: "/" + strings.Trim(root, "/"), idle: make(chan *session, farLanes), can: l.Abilities}
	if most, ok := s.can.Known(site.Connections); ok {
		s.most.Store(int32(most))
	}
	s.dial = func(ctx context.Context) (*session, error) {
		n := &session{ctx: ctx}
		dial := client.DialWithDialFunc(n.lines(cmp.Or(l.DataHost, name), secure, l.Security))
		c, err := client.Dial(host, slices.Concat(options, []client.DialOption{dial})...)
		if err != nil {
			return nil, s.classify(err)
		}
		if err := c.Login(l.User, l.Password); err != nil {
			c.Quit()
			var said *textproto.Error
			if !errors.As(err, &said) {
				return nil, s.classify(err)
			}
			return nil, &site.Refused{
				Host:  host,
				Why:   fmt.Sprintf("it does not let %q in", l.User),
				Next:  "check the user in the address, and the password: havvel keys set stores one",
				Cause: err,
			}
		}
		n.ServerConn = c
		return n, nil
	}
	s.made.Store(s.root, true)
	return s, s.with(ctx, func(c *client.ServerConn) (err error) {
		s.pace.Answer(func() { err = c.ChangeDir(s.root) })
		if said(err) {
			err = s.folders(c, s.root)
		}
		return err
	})
}

// classify gives errors of the host their meaning (RFC 959, section 4.2).
func (s *store) classify(err error) error {
	var said *textproto.Error
	var refused *site.Refused
	doubt := site.Distrusted(s.host, err)
	switch {
	case err == nil, errors.Is(err, fs.ErrNotExist), errors.Is(err, fs.ErrExist), errors.Is(err, context.Canceled), errors.As(err, &refused):
		return err
	case doubt != nil:
		return doubt
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
func (s *store) Lanes() int              { return s.pace.Lanes(nearLanes, farLanes) }

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

// folder makes a folder and those above it, once for all who want it.
func (s *store) folder(ctx context.Context, name string) error {
	if _, ok := s.made.Load(name); ok || name == "/" {
		return nil
	}
	_, err, _ := s.making.Do(name, func() (any, error) {
		if name != s.root {
			if err := s.folder(ctx, path.Dir(name)); err != nil {
				return nil, err
			}
		}
		err := s.with(ctx, func(c *client.ServerConn) error { return s.folders(c, name) })
		if err == nil {
			s.made.Store(name, true)
		}
		return nil, err
	})
	return err
}

// folders makes a folder, and those above it where that alone can't be done.
func (s *store) folders(c *client.ServerConn, folder string) error {
	made := c.MakeDir(folder)
	if made == nil || c.ChangeDir(folder) == nil { // it was there
		return nil
	}
	if above := path.Dir(folder); above != "/" && c.ChangeDir(above) != nil {
		if err := s.folders(c, above); err != nil {
			return err
		}
		if made = c.MakeDir(folder); made == nil {
			return nil
		}
	}
	if errors.Is(s.classify(made), fs.ErrNotExist) {
		return &site.Refused{
			Host:  s.host,
			Why:   "the folder " + folder + " can't be made",
			Next:  "name a folder that this user may write to",
			Cause: made,
		}
	}
	return made
}

const part = ".havvel-part"

func (s *store) List(ctx context.Context, folder string, likely ...string) (map[string]int64, error) {
	return site.Walk(ctx, s.Lanes(), likely, func(ctx context.Context, below string) (list []site.Entry, err error) {
		err = s.with(ctx, func(c *client.ServerConn) error {
			if err := c.ChangeDir(s.path(path.Join(folder, below))); err != nil { // some hosts list a folder that isn't there as empty
				return err
			}
			entries, err := c.List(".") // by its name, hosts break names with blanks
			for _, e := range entries {
				if e.Name != "." && e.Name != ".." && !strings.HasSuffix(e.Name, part) {
					list = append(list, site.Entry{Name: e.Name, Folder: e.Type == client.EntryTypeFolder, Bytes: int64(e.Size)})
				}
			}
			return err
		})
		return list, err
	})
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

func (s *store) Fetch(ctx context.Context, name string, to io.Writer) error {
	return s.with(ctx, func(c *client.ServerConn) error {
		r, err := c.Retr(s.path(name))
		if said(err) && absent(c, s.path(name)) {
			return fs.ErrNotExist
		}
		if err != nil {
			return err
		}
		_, err = io.Copy(to, r)
		return errors.Join(err, r.Close())
	})
}

// Put implements site.Store. It writes under the name itself, which costs the fewest answers to wait for: what broke off is told from what
// is whole by its size.
func (s *store) Put(ctx context.Context, f site.File, sent func(int64)) error {
	to := s.path(f.Name)
	if err := s.folder(ctx, path.Dir(to)); err != nil {
		return err
	}
	return s.with(ctx, func(c *client.ServerConn) error {
		return upload(ctx, c, f, to, f.There, sent)
	})
}

// Swap writes beside the name, and renames.
func (s *store) Swap(ctx context.Context, f site.File) error {
	to := s.path(f.Name)
	unfinished := fmt.Sprintf("%s.%.8s%s", to, f.SHA256, part)
	if err := s.folder(ctx, path.Dir(to)); err != nil {
		return err
	}
	return s.with(ctx, func(c *client.ServerConn) error {
		if err := upload(ctx, c, f, unfinished, 0, func(int64) {}); err != nil {
			return err
		}
		if size, err := c.FileSize(unfinished); err == nil && size != f.Bytes {
			c.Delete(unfinished)
			return fmt.Errorf("%s did not arrive whole", f.Name)
		}
		return c.Rename(unfinished, to)
	})
}

// upload writes a file under a name, from a place on.
func upload(ctx context.Context, c *client.ServerConn, f site.File, to string, at int64, sent func(int64)) error {
	from, err := f.Open()
	if err != nil {
		return err
	}
	defer from.Close()
	if f.Bytes == 0 {
		return c.Stor(to, bytes.NewReader(nil))
	}
	var taken int64
	r := progress.Reader(ctx, from, progress.Count(func(n int64) { taken += n; sent(n) }))
	if at > 0 && at < f.Bytes {
		if _, err := from.Seek(at, io.SeekStart); err != nil {
			return err
		}
		if err := c.StorFrom(to, r, uint64(at)); !said(err) {
			return err
		}
		if _, err := from.Seek(0, io.SeekStart); err != nil { // the host can't go on within a file
			return err
		}
		sent(-taken)
	}
	return c.Stor(to, r)
}

// said reports whether an error is an answer of the host: which number stands for what differs between hosts.
func said(err error) bool {
	var answer *textproto.Error
	return errors.As(err, &answer)
}

// absent reports whether there is no file of that name, by the list of its folder.
func absent(c *client.ServerConn, name string) bool {
	if c.ChangeDir(path.Dir(name)) != nil {
		return true
	}
	entries, err := c.List(".")
	return err == nil && !slices.ContainsFunc(entries, func(e *client.Entry) bool { return e.Name == path.Base(name) })
}

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
	s.made.Clear()
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
