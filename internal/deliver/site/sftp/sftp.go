// Package sftp keeps a site on a host that is reached by SFTP over SSH. Who the host is, is always checked against known_hosts.
package sftp

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net"
	"os"
	"path"
	"strings"
	"sync/atomic"
	"time"

	client "github.com/pkg/sftp"
	"golang.org/x/crypto/ssh"

	"havvel/internal/deliver/site"
	"havvel/internal/deliver/site/idle"
)

type store struct {
	host string
	root string
	conn *ssh.Client
	c    *client.Client

	ended chan error   // why the connection ended
	links atomic.Int32 // whether the host can give a file a second name
}

// What is known of an ability of a host; at first nothing.
const can, cannot = 1, 2

// dialLimit is how long a host may take to answer.
const dialLimit = 20 * time.Second

// Open connects to a host and returns the store in a folder there. root begins at the host's root, or at the user's folder
// when it begins with "~/".
func Open(ctx context.Context, host, root string, l Login) (site.Store, error) {
	config, err := l.config(host)
	if err != nil {
		return nil, err
	}
	if _, _, err := net.SplitHostPort(host); err != nil {
		host = net.JoinHostPort(host, "22")
	}
	dialer := net.Dialer{Timeout: dialLimit, KeepAlive: 15 * time.Second}
	conn, err := dialer.DialContext(ctx, "tcp", host)
	if err != nil {
		return nil, &site.Unreachable{Host: host, Cause: err}
	}
	conn = idle.Answering(conn, idle.Limit)
	c, channels, requests, err := ssh.NewClientConn(conn, host, config)
	if err != nil {
		conn.Close()
		return nil, l.refused(host, err)
	}
	s := &store{host: host, conn: ssh.NewClient(c, channels, requests), ended: make(chan error, 1)}
	go s.alive()
	go func() { s.ended <- s.conn.Wait() }()
	if s.c, err = client.NewClient(s.conn, client.UseConcurrentWrites(true), client.UseConcurrentReads(true)); err != nil {
		s.conn.Close()
		return nil, &site.Refused{
			Host:  host,
			Why:   "it has no SFTP: " + err.Error(),
			Next:  "ask the people who run the host to allow it",
			Cause: err,
		}
	}
	context.AfterFunc(ctx, func() { s.conn.Close() }) // ends what waits
	if s.root, err = s.place(root); err != nil {
		s.Close()
		return nil, s.classify(err)
	}
	return s, nil
}

// alive has the host answer all the time, so that silence means that it doesn't (RFC 4254 section 4: what it doesn't know it refuses).
func (s *store) alive() {
	for {
		if _, _, err := s.conn.SendRequest("keepalive@openssh.com", true, nil); err != nil {
			return
		}
		time.Sleep(idle.Limit / 3)
	}
}

// place is the root as the host names it; it is made if need be.
func (s *store) place(root string) (string, error) {
	if rest, ok := strings.CutPrefix(root, "~/"); ok {
		home, err := s.c.Getwd()
		if err != nil {
			return "", err
		}
		root = path.Join(home, rest)
	}
	return root, s.folders(root)
}

func (s *store) Lanes() int { return 6 }

func (s *store) Close() error {
	s.c.Close()
	s.conn.Close()
	return nil
}

func (s *store) path(name string) string { return path.Join(s.root, name) }

// classify gives errors of the host their meaning.
func (s *store) classify(err error) error {
	var status *client.StatusError
	switch {
	case err == nil, errors.Is(err, fs.ErrNotExist), errors.Is(err, fs.ErrExist):
		return err
	case errors.Is(err, fs.ErrPermission):
		return &site.Refused{Host: s.host, Why: "permission denied in " + s.root, Next: "name a folder that this user may write to", Cause: err}
	case errors.As(err, &status) && status.Code == unsupported:
		return &site.Refused{
			Host:  s.host,
			Why:   "its SFTP can't do what a site needs (" + status.Error() + ")",
			Next:  "ask the people who run the host for another way in, such as WebDAV or an object store",
			Cause: err,
		}
	case errors.As(err, &status):
		return &site.Refused{
			Host:  s.host,
			Why:   "it can't write to " + s.root + " (" + status.Error() + "); is its disk full?",
			Next:  "make room on the host, and run the same command again: it goes on where it stopped",
			Cause: err,
		}
	}
	return &site.Unreachable{Host: s.host, Cause: s.why()}
}

// why is why the connection ended.
func (s *store) why() error {
	var silent *idle.Silent
	select {
	case err := <-s.ended:
		s.ended <- err
		if errors.As(err, &silent) {
			return silent
		}
	case <-time.After(time.Second): // it hasn't
	}
	return errors.New("the connection broke off")
}

// unsupported is the status of what a host doesn't know (draft-ietf-secsh-filexfer-02, section 7).
const unsupported = 8

const part = ".havvel-part"

func (s *store) List(ctx context.Context, folder string) (map[string]int64, error) {
	sizes := map[string]int64{}
	err := s.list(ctx, s.path(folder), "", sizes)
	if errors.Is(err, fs.ErrNotExist) {
		return sizes, nil
	}
	return sizes, s.classify(err)
}

func (s *store) list(ctx context.Context, folder, prefix string, sizes map[string]int64) error {
	entries, err := s.c.ReadDirContext(ctx, folder)
	if err != nil {
		return err
	}
	for _, e := range entries {
		name := path.Join(prefix, e.Name())
		switch {
		case e.IsDir():
			if err := s.list(ctx, path.Join(folder, e.Name()), name, sizes); err != nil {
				return err
			}
		case !strings.HasSuffix(name, part):
			sizes[name] = e.Size()
		}
	}
	return nil
}

func (s *store) Names(ctx context.Context, folder string) ([]string, error) {
	entries, err := s.c.ReadDirContext(ctx, s.path(folder))
	names := make([]string, len(entries))
	for i, e := range entries {
		names[i] = e.Name()
	}
	return names, s.classify(err)
}

func (s *store) Read(_ context.Context, name string) ([]byte, error) {
	f, err := s.c.Open(s.path(name))
	if err != nil {
		return nil, s.classify(err)
	}
	defer f.Close()
	data, err := io.ReadAll(io.LimitReader(f, 64<<20))
	return data, s.classify(err)
}

// chunk is how much of a file goes out before it is known to be there. Within it, bytes may arrive in any order.
const chunk = 4 << 20

// Put implements site.Store. The unfinished file's name holds its content's hash, so that only the same content goes on.
func (s *store) Put(ctx context.Context, f site.File, sent func(int64)) error {
	return s.put(ctx, f, readable, sent)
}

// readable is the least that a web server needs.
const readable fs.FileMode = 0o644

// put makes a file with a mode, if what this user's files have isn't enough.
func (s *store) put(ctx context.Context, f site.File, mode fs.FileMode, sent func(int64)) error {
	to := s.path(f.Name)
	from, err := f.Open()
	if err != nil {
		return err
	}
	defer from.Close()
	unfinished := fmt.Sprintf("%s.%.8s%s", to, f.SHA256, part)
	w, err := s.c.OpenFile(unfinished, os.O_RDWR|os.O_CREATE)
	if errors.Is(err, fs.ErrNotExist) {
		if err = s.folders(path.Dir(to)); err == nil {
			w, err = s.c.OpenFile(unfinished, os.O_RDWR|os.O_CREATE)
		}
	}
	if err != nil {
		return s.classify(err)
	}
	info, err := w.Stat()
	if err != nil {
		w.Close()
		return s.classify(err)
	}
	if err := s.fill(ctx, w, from, f, info.Size(), sent); err != nil {
		w.Close()
		return err
	}
	if has := info.Mode().Perm(); has != mode && (mode != readable || has&readable != readable) {
		w.Chmod(mode) // a host that has no modes needs none
	}
	if err := w.Close(); err != nil {
		return s.classify(err)
	}
	return s.classify(s.replace(unfinished, to))
}

// replace gives a finished file its name. Hosts without the extension for it refuse a name that is taken: there the old file goes first,
// and between the two steps there is none.
func (s *store) replace(unfinished, to string) error {
	err := s.c.PosixRename(unfinished, to)
	var status *client.StatusError
	if !errors.As(err, &status) {
		return err
	}
	if err = s.c.Rename(unfinished, to); err == nil || !errors.As(err, &status) {
		return err
	}
	if removed := s.c.Remove(to); removed != nil {
		return err
	}
	return s.c.Rename(unfinished, to)
}

// folders makes a folder and those above it, for web servers to read.
func (s *store) folders(folder string) error {
	var made []string
	for at := folder; at != "/" && at != "."; at = path.Dir(at) {
		if _, err := s.c.Stat(at); err == nil {
			break
		}
		made = append(made, at)
	}
	if err := s.c.MkdirAll(folder); err != nil {
		return err
	}
	for _, at := range made {
		s.c.Chmod(at, 0o755) // a host that has no modes needs none
	}
	return nil
}

// fill writes the part of a file that is not there yet.
func (s *store) fill(ctx context.Context, w *client.File, from io.ReadSeeker, f site.File, has int64, sent func(int64)) error {
	var at int64
	if has > chunk && has <= f.Bytes {
		at = (has - 1) / chunk * chunk // the last chunk may have holes
		sent(at)
		sent(-at) // neither sent now nor still to do: only how far it is
	}
	if _, err := from.Seek(at, io.SeekStart); err != nil {
		return err
	}
	if _, err := w.Seek(at, io.SeekStart); err != nil {
		return s.classify(err)
	}
	for at < f.Bytes {
		if err := ctx.Err(); err != nil {
			return err
		}
		want := min(chunk, f.Bytes-at)
		n, err := w.ReadFromWithConcurrency(&io.LimitedReader{R: from, N: want}, 16)
		if err != nil {
			return s.classify(err)
		}
		if n != want {
			return fmt.Errorf("%s changed while it was sent", f.Name)
		}
		at += n
		sent(n)
	}
	return nil
}

// Copy makes another name for the same file, as OpenSSH can: versions never change. Some hosts say yes and do nothing, so the first one
// is looked at.
func (s *store) Copy(_ context.Context, from, to string) error {
	if s.links.Load() == cannot {
		return errors.ErrUnsupported
	}
	err := s.c.Link(s.path(from), s.path(to))
	if errors.Is(err, fs.ErrNotExist) {
		if err := s.folders(path.Dir(s.path(to))); err != nil {
			return s.classify(err)
		}
		err = s.c.Link(s.path(from), s.path(to))
	}
	var status *client.StatusError
	switch {
	case errors.As(err, &status) && status.Code == unsupported:
		s.links.Store(cannot)
		return errors.ErrUnsupported
	case errors.As(err, &status) || errors.Is(err, fs.ErrNotExist) || errors.Is(err, fs.ErrPermission):
		return errors.ErrUnsupported
	case err == nil && s.links.Load() != can:
		if _, err := s.c.Stat(s.path(to)); errors.Is(err, fs.ErrNotExist) {
			s.links.Store(cannot)
			return errors.ErrUnsupported
		}
		s.links.Store(can)
	}
	return s.classify(err)
}

// Swap leaves a file the mode that it has.
func (s *store) Swap(ctx context.Context, f site.File) error {
	mode := readable
	if was, err := s.c.Stat(s.path(f.Name)); err == nil {
		mode = was.Mode().Perm()
	}
	return s.put(ctx, f, mode, func(int64) {})
}

func (s *store) Claim(_ context.Context, name string) error {
	err := s.c.Mkdir(s.path(name))
	if err != nil {
		if _, there := s.c.Stat(s.path(name)); there == nil {
			return fs.ErrExist
		}
	}
	return s.classify(err)
}

func (s *store) Remove(_ context.Context, name string) error {
	err := s.c.RemoveAll(s.path(name))
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	return s.classify(err)
}
