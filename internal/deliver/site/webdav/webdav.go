// Package webdav keeps a site on a host that is reached by WebDAV (RFC 4918).
package webdav

import (
	"context"
	"crypto/tls"
	"errors"
	"io"
	"io/fs"
	"net/http"
	"net/url"
	"path"
	"strings"
	"sync"

	client "github.com/studio-b12/gowebdav"

	"havvel/internal/deliver/site"
	"havvel/internal/deliver/site/idle"
	"havvel/internal/progress"
)

type store struct {
	host, root string
	c          *client.Client
	http       *http.Client
	base       *url.URL
	user, pass string

	mu   sync.Mutex
	made map[string]bool // folders that are there
}

// Open returns the store under an address, which is made if need be.
func Open(ctx context.Context, address *url.URL, user, password string) (site.Store, error) {
	base := *address
	base.User, base.Path = nil, ""
	transport := bound(ctx, &http.Transport{
		Proxy: http.ProxyFromEnvironment, MaxIdleConnsPerHost: 8, DialContext: idle.Dial,
		WriteBufferSize: 64 << 10, TLSClientConfig: &tls.Config{MinVersion: tls.VersionTLS12},
	})
	c := client.NewAuthClient(base.String(), client.NewPreemptiveAuth(basic{user, password}))
	c.SetTransport(transport)
	s := &store{
		host: base.Host,
		root: strings.TrimSuffix(address.Path, "/"),
		c:    c,
		http: &http.Client{Transport: transport},
		base: &base,
		user: user,
		pass: password,
		made: map[string]bool{},
	}
	if err := s.folder(s.root); err != nil {
		return nil, err
	}
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
func bound(ctx context.Context, to *http.Transport) http.RoundTripper {
	return carrier(func(r *http.Request) (*http.Response, error) { return to.RoundTrip(r.WithContext(ctx)) })
}

func (s *store) path(name string) string { return s.root + "/" + name }
func (s *store) Lanes() int              { return 4 }
func (s *store) Close() error            { s.http.CloseIdleConnections(); return nil }

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
	return &site.Unreachable{Host: s.host, Cause: err}
}

func (s *store) List(ctx context.Context, folder string) (map[string]int64, error) {
	sizes := map[string]int64{}
	err := s.list(ctx, s.path(folder), "", sizes)
	if errors.Is(err, fs.ErrNotExist) {
		return sizes, nil
	}
	return sizes, err
}

func (s *store) list(ctx context.Context, folder, prefix string, sizes map[string]int64) error {
	if err := ctx.Err(); err != nil {
		return err
	}
	entries, err := s.c.ReadDir(folder)
	if err != nil {
		return s.classify(err)
	}
	for _, e := range entries {
		name := path.Join(prefix, e.Name())
		if e.IsDir() {
			if err := s.list(ctx, folder+"/"+e.Name(), name, sizes); err != nil {
				return err
			}
			continue
		}
		sizes[name] = e.Size()
	}
	return nil
}

func (s *store) Names(_ context.Context, folder string) ([]string, error) {
	entries, err := s.c.ReadDir(strings.TrimSuffix(s.path(folder), "/"))
	names := make([]string, len(entries))
	for i, e := range entries {
		names[i] = e.Name()
	}
	return names, s.classify(err)
}

func (s *store) Read(_ context.Context, name string) ([]byte, error) {
	data, err := s.c.Read(s.path(name))
	return data, s.classify(err)
}

// folder makes a folder and those above it, once. Two at a time would get into each other's way.
func (s *store) folder(name string) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.made[name] {
		return nil
	}
	if err := s.c.MkdirAll(name, 0o755); err != nil {
		return s.classify(err)
	}
	s.made[name] = true
	return nil
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
	return s.do(r, f.Name)
}

func (s *store) do(r *http.Request, name string) error {
	answer, err := s.http.Do(r)
	if err != nil {
		return s.classify(err)
	}
	defer answer.Body.Close()
	io.Copy(io.Discard, io.LimitReader(answer.Body, 1<<20))
	if answer.StatusCode >= 300 {
		return s.classify(client.NewPathError(r.Method, name, answer.StatusCode))
	}
	return nil
}

func (s *store) Copy(_ context.Context, from, to string) error {
	if err := s.folder(path.Dir(s.path(to))); err != nil {
		return err
	}
	err := s.c.Copy(s.path(from), s.path(to), true)
	var status client.StatusError
	if errors.As(err, &status) && status.Status != http.StatusUnauthorized {
		return errors.ErrUnsupported
	}
	return s.classify(err)
}

func (s *store) Swap(ctx context.Context, f site.File) error { return s.Put(ctx, f, func(int64) {}) }

// Claim makes a folder, which the host refuses when there is one (RFC 4918 section 9.3.1).
func (s *store) Claim(ctx context.Context, name string) error {
	to := *s.base
	to.Path = s.path(name)
	r, err := http.NewRequestWithContext(ctx, "MKCOL", to.String()+"/", nil)
	if err != nil {
		return err
	}
	basic{s.user, s.pass}.Authorize(nil, r, "")
	err = s.do(r, name)
	var refused *site.Refused
	if errors.As(err, &refused) && client.IsErrCode(refused.Cause, http.StatusMethodNotAllowed) {
		return fs.ErrExist
	}
	return err
}

func (s *store) Remove(_ context.Context, name string) error {
	s.mu.Lock()
	clear(s.made)
	s.mu.Unlock()
	err := s.c.RemoveAll(s.path(name))
	if err != nil && !client.IsErrNotFound(err) { // some hosts want a folder named with its slash
		err = s.c.RemoveAll(s.path(name) + "/")
	}
	if client.IsErrNotFound(err) {
		return nil
	}
	return s.classify(err)
}
