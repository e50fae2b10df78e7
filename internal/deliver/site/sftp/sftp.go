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
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	client "github.com/pkg/sftp"
	"golang.org/x/sync/errgroup"
	"golang.org/x/sync/singleflight"

	"havvel/internal/deliver/site"
	"havvel/internal/deliver/site/idle"
)

type store struct {
	host  string
	root  string
	c     *client.Client // of the first connection
	mode  fs.FileMode    // that files get; 0 for what they have, if that is readable
	trip  time.Duration  // that an answer takes
	many  func()         // opens more connections
	lines links
	links atomic.Int32 // whether the host can give a file a second name
	made  singleflight.Group
}

// What is known of an ability of a host; at first nothing.
const can, cannot = 1, 2

// Open connects to a host and returns the store in a folder there. root begins at the host's root, or at the user's folder
// when it begins with "~/".
func Open(ctx context.Context, host, root string, l Login) (site.Store, error) {
	if _, _, err := net.SplitHostPort(host); err != nil {
		host = net.JoinHostPort(host, "22")
	}
	d := dialer{host, l}
	first, err := d.open(ctx)
	if err != nil {
		return nil, err
	}
	s := &store{host: host, c: first.c, mode: l.Mode}
	s.lines.first, s.lines.all = first, []*link{first}
	s.many = func() { s.lines.more(ctx, d) }
	began := time.Now()
	home, err := s.c.Getwd()
	s.trip = time.Since(began)
	if err == nil {
		s.root, err = s.place(root, home)
	}
	if err != nil {
		s.Close()
		return nil, s.classify(err)
	}
	return s, nil
}

// place is the root as the host names it; it is made if need be.
func (s *store) place(root, home string) (string, error) {
	if rest, ok := strings.CutPrefix(root, "~/"); ok {
		root = path.Join(home, rest)
	}
	return root, s.folders(root)
}

// Lanes: requests of many files are on their way at once, the more the longer an answer takes.
func (s *store) Lanes() int { return 6 + int(min(58, s.trip/time.Millisecond)) }

func (s *store) Close() error {
	s.lines.close()
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
	case err := <-s.lines.first.ended:
		s.lines.first.ended <- err
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

func (s *store) List(ctx context.Context, folder string, likely ...string) (map[string]int64, error) {
	sizes, err := site.Walk(ctx, s.Lanes(), likely, func(ctx context.Context, below string) ([]site.Entry, error) {
		return s.entries(ctx, path.Join(folder, below))
	})
	return sizes, s.classify(err)
}

// entries are what is right in a folder, but for what a Put has not finished.
func (s *store) entries(ctx context.Context, folder string) (list []site.Entry, err error) {
	found, err := s.lines.pick().ReadDirContext(ctx, s.path(folder))
	for _, e := range found {
		if !strings.HasSuffix(e.Name(), part) {
			list = append(list, site.Entry{Name: e.Name(), Folder: e.IsDir(), Bytes: e.Size()})
		}
	}
	return list, err
}

func (s *store) Names(ctx context.Context, folder string) ([]string, error) {
	entries, err := s.c.ReadDirContext(ctx, s.path(folder))
	names := make([]string, len(entries))
	for i, e := range entries {
		names[i] = e.Name()
	}
	return names, s.classify(err)
}

func (s *store) Fetch(ctx context.Context, name string, to io.Writer) error {
	f, err := s.c.Open(s.path(name))
	if err != nil {
		return s.classify(err)
	}
	defer f.Close()
	_, err = f.WriteTo(to)
	return s.classify(err)
}

// chunk is how much of a file goes out before it is known to be there. Within it, bytes may arrive in any order.
const chunk = 4 << 20

// Put implements site.Store. The unfinished file's name holds its content's hash, so that only the same content goes on.
func (s *store) Put(ctx context.Context, f site.File, sent func(int64)) error {
	return s.put(ctx, f, s.mode, sent)
}

// readable is the least that a web server needs.
const readable fs.FileMode = 0o644

// wants is the mode that a file should have which has another one, where the one that it should have is given, or 0.
func wants(has, mode fs.FileMode) fs.FileMode {
	switch {
	case mode != 0:
		return mode
	case has&readable != readable:
		return readable
	}
	return has
}

// put makes a file with a mode; with 0, one that a web server can read.
func (s *store) put(ctx context.Context, f site.File, mode fs.FileMode, sent func(int64)) error {
	to := s.path(f.Name)
	from, err := f.Open()
	if err != nil {
		return err
	}
	defer from.Close()
	if s.trip > far {
		s.many()
	}
	c := s.lines.pick()
	unfinished := fmt.Sprintf("%s.%.8s%s", to, f.SHA256, part)
	w, err := c.OpenFile(unfinished, os.O_RDWR|os.O_CREATE)
	if errors.Is(err, fs.ErrNotExist) {
		if err = s.folders(path.Dir(to)); err == nil {
			w, err = c.OpenFile(unfinished, os.O_RDWR|os.O_CREATE)
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
	if has := info.Mode().Perm(); wants(has, mode) != has {
		w.Chmod(wants(has, mode)) // a host that has no modes needs none
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

// folders makes a folder and those above it, for web servers to read; once for all who want it at the same time.
func (s *store) folders(folder string) error {
	_, err, _ := s.made.Do(folder, func() (any, error) { return nil, s.makeFolders(folder) })
	return err
}

func (s *store) makeFolders(folder string) error {
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
		mode := wants(readable, s.mode)
		s.c.Chmod(at, mode|mode&0o444>>2) // who may read may go in; a host that has no modes needs none
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
	if s.trip > far {
		s.many()
	}
	c := s.lines.pick()
	err := c.Link(s.path(from), s.path(to))
	if errors.Is(err, fs.ErrNotExist) {
		if err := s.folders(path.Dir(s.path(to))); err != nil {
			return s.classify(err)
		}
		if err = c.Link(s.path(from), s.path(to)); errors.Is(err, fs.ErrNotExist) {
			return fs.ErrNotExist
		}
	}
	var status *client.StatusError
	switch {
	case errors.As(err, &status) && status.Code == unsupported:
		s.links.Store(cannot)
		return errors.ErrUnsupported
	case errors.As(err, &status) || errors.Is(err, fs.ErrPermission):
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
	mode := s.mode
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

// Remove takes what is in a folder away side by side, and then the folders, the innermost first.
func (s *store) Remove(ctx context.Context, name string) error {
	top := s.path(name)
	err := s.c.Remove(top)
	if err == nil || errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	folders, files := []string{top}, []string{}
	var mu sync.Mutex
	_, err = site.Walk(ctx, s.Lanes(), nil, func(ctx context.Context, below string) (list []site.Entry, err error) {
		found, err := s.lines.pick().ReadDirContext(ctx, path.Join(top, below))
		mu.Lock()
		defer mu.Unlock()
		for _, e := range found {
			at := path.Join(top, below, e.Name())
			if list = append(list, site.Entry{Name: e.Name(), Folder: e.IsDir()}); e.IsDir() {
				folders = append(folders, at)
			} else {
				files = append(files, at)
			}
		}
		return list, err
	})
	if err != nil {
		return s.classify(err)
	}
	var work errgroup.Group
	work.SetLimit(s.Lanes())
	for _, f := range files {
		work.Go(func() error { return gone(s.lines.pick().Remove(f)) })
	}
	err = work.Wait()
	slices.SortFunc(folders, func(a, b string) int { return strings.Count(b, "/") - strings.Count(a, "/") })
	for _, f := range folders {
		if err == nil {
			err = gone(s.c.RemoveDirectory(f))
		}
	}
	return s.classify(err)
}

// gone takes what isn't there any more for removed.
func gone(err error) error {
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	return err
}
