package pack

import (
	"cmp"
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"

	"havvel/internal/atomicfile"
	"havvel/internal/disk"
	"havvel/internal/pack/deflate"
	"havvel/internal/progress"
)

// zipped writes items as a zip (PKWARE APPNOTE 6.3.10) with forward slashes, UTF-8 names, and fixed times and modes. Large
// entries come first, so that a small change leaves most of the archive as it was. judge is asked about the file before it
// gets its name; when anything fails, path is as it was before.
func (p *Plan) zipped(
	ctx context.Context,
	path string,
	items []*Item,
	report progress.Reporter,
	judge func(file string) error,
) (*Archive, error) {
	items = slices.Clone(items)
	slices.SortStableFunc(items, func(a, b *Item) int { return cmp.Or(cmp.Compare(b.Size(), a.Size()), cmpNames(a.Name, b.Name)) })
	streams, err := p.streams(ctx, items, report)
	if err != nil {
		return nil, err
	}
	a := &Archive{Path: path, Entries: len(items)}
	var finished done
	err = atomicfile.Again(path, func(f disk.File) (err error) {
		sum := newSummer(filepath.Join(p.cache.folder, "sums"), items, streams, p.to.Unsummed)
		if finished, err = a.write(ctx, f, path, items, streams, sum, p.cache); err != nil {
			return err
		}
		return judge(f.Name())
	})
	if err != nil {
		return nil, err
	}
	p.cache.finished(finished) // now that the path is its, and not an older archive's
	return a, nil
}

// streams has the items compressed.
func (p *Plan) streams(ctx context.Context, items []*Item, report progress.Reporter) ([]*deflate.Stream, error) {
	var contents []deflate.Content
	var total int64
	for _, it := range items {
		f := p.result.File(it.Name)
		contents = append(contents, deflate.Content{
			Name: it.Name, SHA256: f.SHA256, CRC32: f.CRC32, Bytes: f.Bytes, Open: it.Open,
		})
		total += f.Bytes
	}
	report.Begin("packing", total)
	defer report.End()
	effort := deflate.Quick
	if p.to.Smallest {
		effort = deflate.Smallest
	}
	return p.cache.deflated.Streams(ctx, contents, effort, report.Advance)
}

// write writes the archive, and reads it back.
func (a *Archive) write(
	ctx context.Context,
	f disk.File,
	path string,
	items []*Item,
	streams []*deflate.Stream,
	sum *summer,
	cache *Cache,
) (done, error) {
	z := &zipper{f: f}
	if err := cache.begin(z, sum.chain, items, streams); err != nil {
		return done{}, fmt.Errorf("writing %s: %w", path, err)
	}
	back := readBack(f, items, streams, sum)
	defer back.stop()
	for i, it := range items {
		if i < len(z.entries) {
			continue // it was there
		}
		if err := ctx.Err(); err != nil {
			return done{}, err
		}
		if err := z.add(it.Name, streams[i]); err != nil {
			var changed *deflate.Changed
			if errors.As(err, &changed) {
				return done{}, err
			}
			return done{}, fmt.Errorf("writing %s into %s: %w", it.Name, path, err)
		}
		back.reaches(z.at)
	}
	if err := z.close(); err != nil {
		return done{}, fmt.Errorf("writing %s: %w", path, err)
	}
	a.Bytes = z.at
	if err := back.finish(a.Bytes); err != nil {
		return done{}, fmt.Errorf("reading the new archive back: %w", err)
	}
	var err error
	if a.SHA256, err = sum.hex(f, a.Bytes); err != nil {
		return done{}, fmt.Errorf("reading the new archive back: %w", err)
	}
	return doneAs(path, sum.chain, z), nil
}

// done is an archive that was written before with the same cache.
type done struct {
	path  string
	chain [][sha256.Size]byte // what it holds up to the end of each entry
	ends  []int64             // where these are
}

// begin takes over the beginning of an archive that was written before, as far as it is the same.
func (c *Cache) begin(z *zipper, chain [][sha256.Size]byte, items []*Item, streams []*deflate.Stream) error {
	c.mu.Lock()
	last := c.last
	c.mu.Unlock()
	same := 0
	for same < min(len(chain), len(last.chain)) && chain[same] == last.chain[same] {
		same++
	}
	if same == 0 {
		return nil
	}
	from, err := os.Open(last.path)
	if err != nil {
		return nil // it was taken away
	}
	defer from.Close()
	n, err := io.Copy(z.f, io.LimitReader(from, last.ends[same-1]))
	if err != nil {
		return err
	}
	if n != last.ends[same-1] {
		_, err := z.f.Seek(0, io.SeekStart)
		return err
	}
	z.entries, z.at = layout(items[:same], streams[:same]), n
	return nil
}

func doneAs(path string, chain [][sha256.Size]byte, z *zipper) done {
	d := done{path: path, chain: chain}
	for _, e := range z.entries[1:] {
		d.ends = append(d.ends, e.at)
	}
	d.ends = append(d.ends, z.start)
	return d
}

// finished notes an archive that may be the beginning of others.
func (c *Cache) finished(d done) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.last = d
}
