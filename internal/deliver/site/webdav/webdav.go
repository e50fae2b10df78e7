// Package webdav keeps a site on a host that is reached by WebDAV (RFC 4918).
package webdav

import (
	"context"
	"errors"
	"io"
	"io/fs"
	"net/http"
	"net/url"
	"path"
	"strings"
	"sync"

	client "github.com/studio-b12/gowebdav"
	"golang.org/x/sync/singleflight"

	"havvel/internal/deliver/site"
	"havvel/internal/deliver/site/idle"
	"havvel/internal/deliver/site/pace"
	"havvel/internal/deliver/site/trust"
	"havvel/internal/progress"
)

type store struct {
	host, root string
	c          *client.Client
	http       *http.Client
	base       *url.URL
	user, pass string

	pace   pace.Meter
	made   sync.Map // folders that are there
	making singleflight.Group
}

// Each lane keeps a connection: more of them over a long line.
const (
	nearLanes = 4
	farLanes  = 32
)

// Open returns the store under an address, which is made if need be. certificate is the fingerprint of the host's; "" for one that is
// vouched for.
func Open(ctx context.Context, address *url.URL, user, password, certificate string) (site.Store, error) {
	base := *address
	base.User, base.Path = nil, ""
	s := &store{
		host: base.Host,
		root: strings.TrimSuffix(address.Path, "/"),
		c:    client.NewAuthClient(base.String(), client.NewPreemptiveAuth(basic{user, password})),
		base: &base,
		user: user,
		pass: password,
	}
	transport := bound(ctx, pace.Carrier{Meter: &s.pace, By: &http.Transport{
		Proxy: http.ProxyFromEnvironment, MaxIdleConnsPerHost: farLanes, DialContext: idle.Dial,
		WriteBufferSize: 64 << 10, TLSClientConfig: trust.TLS(certificate),
	}})
	s.c.SetTransport(transport)
	s.http = &http.Client{Transport: transport}
	return s, nil
}

// basic is Basic authentication (RFC 7617), sent at once, so that no upload is made twice.
type basic struct{ user, password string }

func (b basic) Authorize(_ *http.Client, r *http.Request, _ string) error {
	if b.user != "" || b.password != "" {
		r.SetBasicAuth(b.user, b.password)
	}
	return nil
}

func (b basic) Verify(_ *http.Client, r *http.Response, p string) (bool, error) {
	if r.StatusCode == http.StatusUnauthorized {
		return false, client.NewPathError("Authorize", p, r.StatusCode)
	}
	return false, nil
}
func (b basic) Close() error                { return nil }
func (b basic) Clone() client.Authenticator { return b }

// A carrier carries requests.
type carrier func(*http.Request) (*http.Response, error)

// RoundTrip implements http.RoundTripper.
func (c carrier) RoundTrip(r *http.Request) (*http.Response, error) { return c(r) }

// bound carries requests until a context ends, which the client's calls do not take.
func bound(ctx context.Context, to http.RoundTripper) http.RoundTripper {
	return carrier(func(r *http.Request) (*http.Response, error) { return to.RoundTrip(r.WithContext(ctx)) })
}

func (s *store) path(name string) string { return s.root + "/" + name }
func (s *store) Lanes() int              { return s.pace.Lanes(nearLanes, farLanes) }
func (s *store) Close() error            { s.http.CloseIdleConnections(); return nil }

// Warm implements site.Warmer.
func (s *store) Warm(ctx context.Context) {
	if s.ask(ctx, http.MethodOptions, "") != nil {
		return // who needs the host is told, once
	}
	var all sync.WaitGroup
	for range nearLanes {
		all.Go(func() { s.ask(ctx, http.MethodOptions, "") })
	}
	all.Wait()
}

// classify gives errors of the host their meaning.
func (s *store) classify(err error) error {
	var status client.StatusError
	switch {
	case err == nil:
		return nil
	case client.IsErrNotFound(err):
		return fs.ErrNotExist
	case client.IsErrCode(err, http.StatusUnauthorized):
		return &site.Refused{
			Host:  s.host,
			Why:   "it does not take this user and password",
			Next:  "check the user in the address, and the password: havvel keys set stores one",
			Cause: err,
		}
	case client.IsErrCode(err, http.StatusForbidden):
		return &site.Refused{
			Host:  s.host,
			Why:   "it does not allow to write to " + s.root,
			Next:  "name a folder that this user may write to",
			Cause: err,
		}
	case client.IsErrCode(err, http.StatusInsufficientStorage):
		return &site.Refused{Host: s.host, Why: "its disk is full", Next: "make room on the host, and run the same command again", Cause: err}
	case errors.As(err, &status):
		return &site.Refused{
			Host:  s.host,
			Why:   http.StatusText(status.Status) + " (status " + status.Error() + ")",
			Next:  "is this address WebDAV, and may this user write there?",
			Cause: err,
		}
	}
	var inner *url.Error
	if errors.As(err, &inner) {
		err = inner.Err // without the address
	}
	if doubt := site.Distrusted(s.host, err); doubt != nil {
		return doubt
	}
	return &site.Unreachable{Host: s.host, Cause: err}
}

func (s *store) List(ctx context.Context, folder string, likely ...string) (map[string]int64, error) {
	return site.Walk(ctx, s.Lanes(), likely, func(ctx context.Context, below string) (list []site.Entry, err error) {
		if err := ctx.Err(); err != nil {
			return nil, err
		}
		entries, err := s.entries(path.Join(folder, below))
		for _, e := range entries {
			list = append(list, site.Entry{Name: e.Name(), Folder: e.IsDir(), Bytes: e.Size()})
		}
		return list, err
	})
}

// Names implements site.Store. The root is made if need be.
func (s *store) Names(_ context.Context, folder string) ([]string, error) {
	entries, err := s.entries(folder)
	if errors.Is(err, fs.ErrNotExist) && folder == "" {
		return nil, s.folder(s.root)
	}
	names := make([]string, len(entries))
	for i, e := range entries {
		names[i] = e.Name()
	}
	return names, err
}

func (s *store) entries(folder string) ([]fs.FileInfo, error) {
	at := strings.TrimSuffix(s.path(folder), "/")
	entries, err := s.c.ReadDir(at)
	if err == nil {
		s.made.Store(at, true)
	}
	return entries, s.classify(err)
}

func (s *store) Fetch(ctx context.Context, name string, to io.Writer) error {
	r, err := s.request(ctx, http.MethodGet, name)
	if err != nil {
		return err
	}
	return s.do(r, name, to)
}

// folder makes a folder and those above it, the innermost first, once for all who want it: two at a time would get into each other's way.
func (s *store) folder(name string) error {
	if _, ok := s.made.Load(name); ok || name == "/" || name == "." || name == "" {
		return nil
	}
	_, err, _ := s.making.Do(name, func() (any, error) {
		err := s.c.Mkdir(name, 0o755) // one that is there is no error
		if client.IsErrCode(err, http.StatusConflict) || client.IsErrNotFound(err) {
			if err := s.folder(path.Dir(name)); err != nil {
				return nil, err
			}
			err = s.c.Mkdir(name, 0o755)
		}
		if err == nil {
			s.made.Store(name, true)
		}
		return nil, s.classify(err)
	})
	return err
}

// Put implements site.Store. A server writes beside the name and moves at the end, or it leaves a file that List and the
// sizes tell from a whole one.
func (s *store) Put(ctx context.Context, f site.File, sent func(int64)) error {
	if err := s.folder(path.Dir(s.path(f.Name))); err != nil {
		return err
	}
	return s.put(ctx, f, sent)
}

func (s *store) put(ctx context.Context, f site.File, sent func(int64)) error {
	from, err := f.Open()
	if err != nil {
		return err
	}
	defer from.Close()
	to := *s.base
	to.Path = s.path(f.Name)
	r, err := http.NewRequestWithContext(ctx, http.MethodPut, to.String(), progress.Reader(ctx, from, progress.Count(sent)))
	if err != nil {
		return err
	}
	r.ContentLength = f.Bytes
	if f.Bytes == 0 {
		r.Body = http.NoBody
	}
	basic{s.user, s.pass}.Authorize(nil, r, "")
	if f.Type != "" {
		r.Header.Set("Content-Type", f.Type)
	}
	return s.do(r, f.Name, io.Discard)
}

func (s *store) do(r *http.Request, name string, into io.Writer) error {
	answer, err := s.http.Do(r)
	if err != nil {
		return s.classify(err)
	}
	defer answer.Body.Close()
	failed := answer.StatusCode >= 300 || answer.StatusCode == http.StatusMultiStatus // some of it failed
	if failed {
		into = io.Discard
	}
	if _, err := io.Copy(into, answer.Body); err != nil {
		return s.classify(err)
	}
	if failed {
		return s.classify(client.NewPathError(r.Method, name, answer.StatusCode))
	}
	return nil
}

func (s *store) Swap(ctx context.Context, f site.File) error { return s.Put(ctx, f, func(int64) {}) }

// Claim makes a folder, which the host refuses when there is one (RFC 4918 section 9.3.1).
func (s *store) Claim(ctx context.Context, name string) error {
	err := s.ask(ctx, "MKCOL", name+"/")
	if answered(err, http.StatusConflict) { // the root isn't there
		if err = s.folder(s.root); err == nil {
			err = s.ask(ctx, "MKCOL", name+"/")
		}
	}
	if answered(err, http.StatusMethodNotAllowed) {
		return fs.ErrExist
	}
	if err == nil {
		s.made.Store(s.root, true)
	}
	return err
}

// answered reports whether a host said no by a status.
func answered(err error, status int) bool {
	var refused *site.Refused
	return errors.As(err, &refused) && client.IsErrCode(refused.Cause, status)
}

func (s *store) Remove(_ context.Context, name string) error {
	s.made.Clear()
	err := s.c.RemoveAll(s.path(name))
	if err != nil && !client.IsErrNotFound(err) { // some hosts want a folder named with its slash
		err = s.c.RemoveAll(s.path(name) + "/")
	}
	if client.IsErrNotFound(err) {
		return nil
	}
	return s.classify(err)
}
