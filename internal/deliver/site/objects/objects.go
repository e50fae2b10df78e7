// Package objects keeps a site in a bucket of an object store, over the HTTP interface that many servers speak.
package objects

import (
	"context"
	"errors"
	"io"
	"io/fs"
	"net/http"
	"net/url"
	"path"
	"strings"

	client "github.com/minio/minio-go/v7"
	"github.com/minio/minio-go/v7/pkg/credentials"

	"havvel/internal/deliver/site"
	"havvel/internal/deliver/site/idle"
	"havvel/internal/deliver/site/pace"
	"havvel/internal/deliver/site/trust"
	"havvel/internal/progress"
)

type store struct {
	host, bucket, root string
	c                  *client.Client
	pace               *pace.Meter
}

// Each lane keeps a connection: more of them over a long line.
const (
	nearLanes = 10
	farLanes  = 64
)

// A Login says who we are, and where the bucket is.
type Login struct {
	ID, Secret string
	Token      string // of a session; "" for none
	Region     string // "" for what the store says
	InHost     bool   // the bucket is part of the host's name, and not of the path

	Certificate string // fingerprint of the host's; "" for one that is vouched for
}

// Open returns the store under an address: a host, the bucket, and a prefix.
func Open(_ context.Context, address *url.URL, l Login) (site.Store, error) {
	bucket, root, _ := strings.Cut(strings.Trim(address.Path, "/"), "/")
	transport, err := client.DefaultTransport(address.Scheme == "https")
	if err != nil {
		return nil, err
	}
	transport.DialContext, transport.ResponseHeaderTimeout = idle.Dial, 0
	lookup := client.BucketLookupPath
	if l.InHost {
		lookup = client.BucketLookupDNS
	}
	transport.TLSClientConfig = trust.TLS(l.Certificate)
	transport.MaxIdleConnsPerHost = farLanes
	meter := &pace.Meter{}
	c, err := client.New(address.Host, &client.Options{
		Transport: pace.Carrier{Meter: meter, By: transport}, Creds: credentials.NewStaticV4(l.ID, l.Secret, l.Token), Region: l.Region,
		Secure: address.Scheme == "https", BucketLookup: lookup, MaxRetries: 3, TrailingHeaders: true,
	})
	if err != nil {
		return nil, &site.Refused{Host: address.Host, Why: err.Error(), Next: "check the address in havvel.toml", Cause: err}
	}
	return &store{address.Host, bucket, root, c, meter}, nil
}

func (s *store) path(name string) string { return path.Join(s.root, name) }
func (s *store) Lanes() int              { return s.pace.Lanes(nearLanes, farLanes) }
func (s *store) Close() error            { return nil }

// Warm implements site.Warmer: the library asks for the bucket's region first, and remembers it.
func (s *store) Warm(ctx context.Context) { s.c.BucketExists(ctx, s.bucket) }

// classify gives errors of the host their meaning.
func (s *store) classify(err error) error {
	if err == nil {
		return nil
	}
	switch e := client.ToErrorResponse(err); {
	case errors.Is(err, context.Canceled):
		return err
	case e.Code == client.NoSuchKey:
		return fs.ErrNotExist
	case e.Code == client.NoSuchBucket:
		return &site.Refused{
			Host:  s.host,
			Why:   "there is no bucket " + s.bucket,
			Next:  "make the bucket, or fix the address in havvel.toml",
			Cause: err,
		}
	case e.StatusCode == http.StatusPreconditionFailed:
		return fs.ErrExist
	case e.Code == "RequestTimeTooSkewed":
		return &site.Refused{Host: s.host, Why: "this machine's clock differs too much from its own", Next: "set the clock", Cause: err}
	case e.StatusCode == http.StatusForbidden || e.StatusCode == http.StatusUnauthorized:
		return &site.Refused{
			Host:  s.host,
			Why:   "it does not take this key pair for the bucket " + s.bucket,
			Next:  "check both parts of the key: havvel keys set stores them as ID:SECRET",
			Cause: err,
		}
	case e.Code != "" && e.StatusCode >= 400:
		return &site.Refused{Host: s.host, Why: e.Message, Next: "havvel where shows what is there", Cause: err}
	}
	var inner *url.Error
	if errors.As(err, &inner) {
		err = inner.Err
	}
	if doubt := site.Distrusted(s.host, err); doubt != nil {
		return doubt
	}
	return &site.Unreachable{Host: s.host, Cause: err}
}

func (s *store) List(ctx context.Context, folder string, _ ...string) (map[string]int64, error) {
	sizes := map[string]int64{}
	prefix := s.path(folder) + "/"
	for o := range s.c.ListObjectsIter(ctx, s.bucket, client.ListObjectsOptions{Prefix: prefix, Recursive: true}) {
		if o.Err != nil {
			return nil, s.classify(o.Err)
		}
		sizes[strings.TrimPrefix(o.Key, prefix)] = o.Size
	}
	return sizes, nil
}

func (s *store) Names(ctx context.Context, folder string) ([]string, error) {
	prefix := s.path(folder) + "/"
	if prefix == "/" {
		prefix = ""
	}
	var names []string
	for o := range s.c.ListObjectsIter(ctx, s.bucket, client.ListObjectsOptions{Prefix: prefix}) {
		if o.Err != nil {
			return nil, s.classify(o.Err)
		}
		names = append(names, strings.TrimSuffix(strings.TrimPrefix(o.Key, prefix), "/"))
	}
	return names, nil
}

func (s *store) Fetch(ctx context.Context, name string, to io.Writer) error {
	o, err := s.c.GetObject(ctx, s.bucket, s.path(name), client.GetObjectOptions{})
	if err != nil {
		return s.classify(err)
	}
	defer o.Close()
	_, err = io.Copy(to, o)
	return s.classify(err)
}

func options(f site.File) client.PutObjectOptions {
	return client.PutObjectOptions{
		ContentType:      f.Type,
		ContentEncoding:  f.Encoding,
		CacheControl:     f.Cache,
		DisableMultipart: true,
		SendContentMd5:   f.Bytes < 64<<20,
		// A signature of pieces would make a body of one that has no length, which stores refuse.
		DisableContentSha256: f.Bytes == 0,
	}
}

func (s *store) Put(ctx context.Context, f site.File, sent func(int64)) error {
	from, err := f.Open()
	if err != nil {
		return err
	}
	defer from.Close()
	if f.Bytes > wholeUpTo {
		return s.pieces(ctx, f, from, sent)
	}
	_, err = s.c.PutObject(ctx, s.bucket, s.path(f.Name), progress.Reader(ctx, from, progress.Count(sent)), f.Bytes, options(f))
	return s.classify(err)
}

func (s *store) Copy(ctx context.Context, from, to string) error {
	_, err := s.c.CopyObject(
		ctx,
		client.CopyDestOptions{Bucket: s.bucket, Object: s.path(to)},
		client.CopySrcOptions{Bucket: s.bucket, Object: s.path(from)},
	)
	if e := client.ToErrorResponse(err); err != nil && e.StatusCode >= 400 && e.Code != client.NoSuchKey {
		return errors.ErrUnsupported
	}
	return s.classify(err)
}

func (s *store) Swap(ctx context.Context, f site.File) error { return s.Put(ctx, f, func(int64) {}) }

// Claim writes an object that must not be there (If-None-Match, RFC 9110 section 13.1.2).
func (s *store) Claim(ctx context.Context, name string) error {
	o := client.PutObjectOptions{ContentType: "text/plain"}
	o.SetMatchETagExcept("*")
	_, err := s.c.PutObject(ctx, s.bucket, s.path(name), strings.NewReader("locked"), 6, o)
	return s.classify(err)
}

func (s *store) Remove(ctx context.Context, name string) error {
	for o := range s.c.ListObjectsIter(ctx, s.bucket, client.ListObjectsOptions{Prefix: s.path(name), Recursive: true}) {
		if o.Err != nil {
			return s.classify(o.Err)
		}
		if o.Key != s.path(name) && !strings.HasPrefix(o.Key, s.path(name)+"/") {
			continue
		}
		if err := s.c.RemoveObject(ctx, s.bucket, o.Key, client.RemoveObjectOptions{}); err != nil {
			return s.classify(err)
		}
	}
	return nil
}
