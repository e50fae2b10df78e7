package files

import (
	"context"
	"fmt"
	"io"
	"io/fs"
	"net/http"
	"net/url"
	"os"
	"path"
	"strings"

	"havvel/internal/disk"

	client "github.com/minio/minio-go/v7"
	"github.com/minio/minio-go/v7/pkg/credentials"
)

type bucket struct {
	c          *client.Client
	name, root string
}

func openBucket(ctx context.Context, u *url.URL, key string) (Store, error) {
	name, root, _ := strings.Cut(strings.Trim(u.Path, "/"), "/")
	id, secret, ok := strings.Cut(key, ":")
	switch {
	case name == "":
		return nil, fmt.Errorf("%s names no bucket; write s3://HOST/BUCKET", u)
	case !ok:
		return nil, fmt.Errorf("the object store at %s wants a key, written ID:SECRET", u.Host)
	}
	c, err := client.New(u.Host, &client.Options{
		Creds: credentials.NewStaticV4(id, secret, ""), Secure: u.Scheme != "s3+http", BucketLookup: client.BucketLookupPath, MaxRetries: 3,
	})
	if err != nil {
		return nil, fmt.Errorf("opening the object store: %w", err)
	}
	there, err := c.BucketExists(ctx, name)
	if err == nil && !there {
		err = fmt.Errorf("there is no bucket %s; make it first", name)
	}
	if err != nil {
		return nil, fmt.Errorf("opening the object store at %s: %w", u.Host, err)
	}
	return &bucket{c, name, root}, nil
}

func (s *bucket) path(name string) string { return path.Join(s.root, name) }

// classify gives the store's answers their meaning.
func classify(err error) error {
	if e := client.ToErrorResponse(err); err != nil &&
		(e.Code == client.NoSuchKey || e.StatusCode == http.StatusNotFound && e.Code != client.NoSuchBucket) {
		return fs.ErrNotExist
	}
	return err
}

// Scratch makes a file without a name where the system allows that, so that a host that is killed leaves nothing behind.
func (s *bucket) Scratch() (disk.File, error) {
	f, err := os.CreateTemp("", "havvel-host-*")
	if err == nil {
		os.Remove(f.Name()) // elsewhere its maker does it
	}
	return f, err
}

func (s *bucket) Put(ctx context.Context, name string, f disk.File) error {
	n, err := f.Seek(0, io.SeekEnd)
	if err == nil {
		_, err = f.Seek(0, io.SeekStart)
	}
	if err != nil {
		return err
	}
	_, err = s.c.PutObject(
		ctx,
		s.name,
		s.path(name),
		f,
		n,
		client.PutObjectOptions{ContentType: "application/octet-stream", PartSize: 64 << 20},
	)
	return classify(err)
}

func (s *bucket) Open(ctx context.Context, name string) (io.ReadSeekCloser, error) {
	o, err := s.c.GetObject(ctx, s.name, s.path(name), client.GetObjectOptions{})
	if err == nil {
		_, err = o.Stat() // the request is made only here
	}
	if err != nil {
		return nil, classify(err)
	}
	return o, nil
}

func (s *bucket) Size(ctx context.Context, name string) (int64, error) {
	o, err := s.c.StatObject(ctx, s.name, s.path(name), client.StatObjectOptions{})
	return o.Size, classify(err)
}

func (s *bucket) Remove(ctx context.Context, names ...string) error {
	for _, name := range names {
		if err := classify(s.c.RemoveObject(ctx, s.name, s.path(name), client.RemoveObjectOptions{})); err != nil && err != fs.ErrNotExist {
			return err
		}
	}
	return nil
}
