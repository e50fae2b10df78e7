// Package files keeps the files of a playtest host: contents, pieces of uploads, and pieces of clips, each under a name that is written
// once. They are in a folder, or in the bucket of an object store that several hosts share. What they mean is left to playhost.
package files

import (
	"context"
	"fmt"
	"io"
	"net/url"
	"strings"

	"havvel/internal/disk"
)

// A Store keeps files under names of letters, digits, hyphens, dots and slashes. It is safe for concurrent use.
type Store interface {
	// Put takes what is in f, a file of Scratch, whole or not at all. It may take the file itself away.
	Put(ctx context.Context, name string, f disk.File) error
	// Open opens a file for reading; the error is fs.ErrNotExist when there is none.
	Open(ctx context.Context, name string) (io.ReadSeekCloser, error)
	// Size is that of a file, in bytes; the error is fs.ErrNotExist when there is none.
	Size(ctx context.Context, name string) (int64, error)
	// Remove takes files away. One that is not there is no error.
	Remove(ctx context.Context, names ...string) error
	// Scratch makes a file for what is on its way, that nobody else sees. Its maker closes and removes it.
	Scratch() (disk.File, error)
}

// Open opens a store: a folder, made when absent, or s3://HOST/BUCKET with an optional prefix (s3+http:// without TLS), to which the key
// lets in, written ID:SECRET.
func Open(ctx context.Context, address, key string) (Store, error) {
	scheme, _, remote := strings.Cut(address, "://")
	if !remote {
		return openFolder(address)
	}
	u, err := url.Parse(address)
	switch {
	case err != nil || u.Host == "" || u.User != nil:
		return nil, fmt.Errorf("the address of the files can't be read; it is a folder, or s3://HOST/BUCKET")
	case scheme == "s3" || scheme == "s3+https" || scheme == "s3+http":
		return openBucket(ctx, u, key)
	}
	return nil, fmt.Errorf("files can't be kept at %s://; it is a folder, or s3://HOST/BUCKET", scheme)
}
