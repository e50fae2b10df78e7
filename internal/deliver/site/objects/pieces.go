package objects

import (
	"context"
	"fmt"
	"io"

	client "github.com/minio/minio-go/v7"

	"havvel/internal/deliver/site"
	"havvel/internal/progress"
)

const (
	wholeUpTo = 32 << 20 // larger objects go in pieces, so that a broken upload goes on
	piece     = 16 << 20
)

// pieces uploads a large object piece by piece, and goes on with an upload that broke off.
func (s *store) pieces(ctx context.Context, f site.File, from io.ReadSeeker, sent func(int64)) error {
	core := client.Core{Client: s.c}
	id, there, err := s.unfinished(ctx, core, f)
	if err != nil {
		return err
	}
	if id == "" {
		o := options(f)
		o.UserMetadata = map[string]string{"sha256": f.SHA256}
		if id, err = core.NewMultipartUpload(ctx, s.bucket, s.path(f.Name), o); err != nil {
			return s.classify(err)
		}
	}
	var parts []client.CompletePart
	for n, at := 1, int64(0); at < f.Bytes; n, at = n+1, at+piece {
		size := min(piece, f.Bytes-at)
		p, ok := there[n]
		if !ok || p.Size != size {
			if _, err := from.Seek(at, io.SeekStart); err != nil {
				return err
			}
			r := progress.Reader(ctx, io.LimitReader(from, size), progress.Count(sent))
			if p, err = core.PutObjectPart(ctx, s.bucket, s.path(f.Name), id, n, r, size, client.PutObjectPartOptions{}); err != nil {
				return s.classify(err)
			}
		}
		parts = append(parts, client.CompletePart{PartNumber: n, ETag: p.ETag})
	}
	if _, err := core.CompleteMultipartUpload(ctx, s.bucket, s.path(f.Name), id, parts, options(f)); err != nil {
		return fmt.Errorf("joining the pieces of %s: %w", f.Name, s.classify(err))
	}
	return nil
}

// unfinished finds an upload under a name that broke off, and the pieces that are there. A name holds its version's
// fingerprint, so what is under it is the same content.
func (s *store) unfinished(ctx context.Context, core client.Core, f site.File) (id string, there map[int]client.ObjectPart, err error) {
	for u := range s.c.ListIncompleteUploads(ctx, s.bucket, s.path(f.Name), true) {
		if u.Err != nil {
			return "", nil, s.classify(u.Err)
		}
		if u.Key == s.path(f.Name) {
			id = u.UploadID
		}
	}
	if id == "" {
		return "", nil, nil
	}
	there = map[int]client.ObjectPart{}
	for marker := 0; ; {
		page, err := core.ListObjectParts(ctx, s.bucket, s.path(f.Name), id, marker, 1000)
		if err != nil {
			return "", nil, s.classify(err)
		}
		for _, p := range page.ObjectParts {
			there[p.PartNumber] = p
		}
		if !page.IsTruncated {
			return id, there, nil
		}
		marker = page.NextPartNumberMarker
	}
}
