package webdav

import (
	"context"
	"errors"
	"io"
	"io/fs"
	"net/http"
	"path"

	"golang.org/x/sync/errgroup"

	"havvel/internal/deliver/site"
)

// Copy implements site.Store.
func (s *store) Copy(ctx context.Context, from, to string) error {
	if err := s.folder(path.Dir(s.path(to))); err != nil {
		return err
	}
	return cannot(s.take(ctx, "COPY", from, to))
}

// Graft implements site.Grafter: a copy of the folder is made beside where it shall be, rid of what doesn't belong, and moved there.
func (s *store) Graft(ctx context.Context, from, to string, without, folders []string) error {
	if err := s.folder(path.Dir(s.path(to))); err != nil {
		return err
	}
	err := s.take(ctx, "COPY", from+"/", grafted+"/")
	if err == nil {
		work, inside := errgroup.WithContext(ctx)
		work.SetLimit(s.Lanes())
		for _, name := range without {
			work.Go(func() error { return gone(s.ask(inside, http.MethodDelete, path.Join(grafted, name))) })
		}
		err = work.Wait()
	}
	if err == nil {
		err = s.take(ctx, "MOVE", grafted+"/", to+"/")
	}
	if err != nil {
		s.ask(context.WithoutCancel(ctx), http.MethodDelete, grafted+"/") // best effort: the next one is copied over it
		return cannot(err)
	}
	for _, folder := range append(folders, "") {
		s.made.Store(s.path(path.Join(to, folder)), true)
	}
	return nil
}

// grafted is the name of a copy under way.
const grafted = "havvel-copying"

// gone takes what isn't there for removed.
func gone(err error) error {
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	return err
}

// take copies or moves a file or, with a slash at the end of both names, a folder (RFC 4918 sections 9.8 and 9.9).
func (s *store) take(ctx context.Context, method, from, to string) error {
	r, err := s.request(ctx, method, from)
	if err != nil {
		return err
	}
	there := *s.base
	there.Path = s.path(to)
	r.Header.Set("Destination", there.String())
	r.Header.Set("Overwrite", "T")
	return s.do(r, from, io.Discard)
}

// ask makes a request without more.
func (s *store) ask(ctx context.Context, method, name string) error {
	r, err := s.request(ctx, method, name)
	if err != nil {
		return err
	}
	return s.do(r, name, io.Discard)
}

func (s *store) request(ctx context.Context, method, name string) (*http.Request, error) {
	to := *s.base
	to.Path = s.path(name)
	r, err := http.NewRequestWithContext(ctx, method, to.String(), nil)
	if err != nil {
		return nil, err
	}
	return r, basic{s.user, s.pass}.Authorize(nil, r, "")
}

// cannot takes a no of the host for something that it can't do.
func cannot(err error) error {
	var no *site.Refused
	if errors.As(err, &no) {
		return errors.ErrUnsupported
	}
	return err
}
