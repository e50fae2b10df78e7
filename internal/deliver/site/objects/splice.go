package objects

import (
	"context"
	"errors"
	"io"

	client "github.com/minio/minio-go/v7"
	"golang.org/x/sync/errgroup"

	"havvel/internal/deliver/site"
	"havvel/internal/pieces"
	"havvel/internal/progress"
)

// What a part of an object may have: stores refuse less in all but the last, more in any, and more parts.
const (
	leastPart = 5 << 20
	mostPart  = 1 << 30
	mostParts = 10_000
)

// Splice implements site.Splicer by an upload in parts, some of which the store copies from objects that it has.
func (s *store) Splice(ctx context.Context, f site.File, from []pieces.Range, sent func(int64)) error {
	parts := inParts(from)
	if len(parts) > mostParts || !copies(parts) {
		return errors.ErrUnsupported
	}
	core := client.Core{Client: s.c}
	o := options(f)
	o.UserMetadata = map[string]string{"sha256": f.SHA256}
	id, err := core.NewMultipartUpload(ctx, s.bucket, s.path(f.Name), o)
	if err != nil {
		return s.classify(err)
	}
	done := make([]client.CompletePart, len(parts))
	work, inside := errgroup.WithContext(ctx)
	work.SetLimit(4)
	for i, p := range parts {
		work.Go(func() (err error) {
			if p.From == "" {
				done[i], err = s.sendPart(inside, core, f, id, i+1, p, sent)
				return err
			}
			done[i], err = core.CopyObjectPart(inside, s.bucket, s.path(p.From), s.bucket, s.path(f.Name), id, i+1, p.Offset, p.Bytes, nil)
			return err
		})
	}
	if err = work.Wait(); err == nil {
		_, err = core.CompleteMultipartUpload(ctx, s.bucket, s.path(f.Name), id, done, options(f))
	}
	if err == nil {
		return nil
	}
	core.AbortMultipartUpload(context.WithoutCancel(ctx), s.bucket, s.path(f.Name), id) // best effort: what stays is nobody's object
	if e := client.ToErrorResponse(err); ctx.Err() == nil && e.StatusCode >= 400 {
		return errors.ErrUnsupported
	}
	return s.classify(err)
}

func (s *store) sendPart(
	ctx context.Context, core client.Core, f site.File, id string, number int, p pieces.Range, sent func(int64),
) (client.CompletePart, error) {
	content, err := f.Open()
	if err != nil {
		return client.CompletePart{}, err
	}
	defer content.Close()
	if _, err := content.Seek(p.At, io.SeekStart); err != nil {
		return client.CompletePart{}, err
	}
	r := progress.Reader(ctx, io.LimitReader(content, p.Bytes), progress.Count(sent))
	part, err := core.PutObjectPart(ctx, s.bucket, s.path(f.Name), id, number, r, p.Bytes, client.PutObjectPartOptions{})
	return client.CompletePart{PartNumber: number, ETag: part.ETag}, err
}

func copies(parts []pieces.Range) bool {
	for _, p := range parts {
		if p.From != "" {
			return true
		}
	}
	return false
}

// inParts makes ranges those of parts that stores take. What is too short to be copied is sent, and what is too short to be sent takes
// bytes of the copy behind it along, or of the one before.
func inParts(ranges []pieces.Range) []pieces.Range {
	var parts []pieces.Range
	add := func(r pieces.Range) {
		if n := len(parts); n > 0 && r.From == "" && parts[n-1].From == "" {
			parts[n-1].Bytes += r.Bytes
			return
		}
		parts = append(parts, r)
	}
	for i, r := range ranges {
		if r.From != "" {
			if n := len(parts); n > 0 && parts[n-1].From == "" {
				take := min(r.Bytes, max(0, leastPart-parts[n-1].Bytes))
				parts[n-1].Bytes += take
				r.At, r.Offset, r.Bytes = r.At+take, r.Offset+take, r.Bytes-take
			}
			if r.Bytes < leastPart && i < len(ranges)-1 {
				r.From, r.Offset = "", 0
			}
		}
		if r.Bytes > 0 {
			add(r)
		}
	}
	return split(parts)
}

// split cuts what is longer than a part may be.
func split(parts []pieces.Range) (list []pieces.Range) {
	for _, p := range parts {
		most := int64(mostPart)
		if p.From == "" {
			most = piece
		}
		for p.Bytes > most+leastPart {
			head := p
			head.Bytes = most
			list = append(list, head)
			p.At, p.Bytes = p.At+most, p.Bytes-most
			if p.From != "" {
				p.Offset += most
			}
		}
		list = append(list, p)
	}
	return list
}
