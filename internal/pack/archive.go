package pack

import (
	"archive/zip"
	"bufio"
	"cmp"
	"context"
	"errors"
	"fmt"
	"hash/crc32"
	"io"
	"os"
	"path/filepath"
	"slices"

	"havvel/internal/pack/deflate"
	"havvel/internal/place"
	"havvel/internal/progress"
)

// written is the date of every entry, 1 January 1980 (APPNOTE 4.4.6): the same input gives the same bytes.
const written = 1<<5 | 1

// zipped writes items as a zip (PKWARE APPNOTE 6.3.10) with forward slashes, UTF-8 names, and fixed times and modes. Large
// entries come first, so that a small change leaves most of the archive as it was. judge is asked about the file before it
// gets its name; when anything fails, path is as it was before.
func (p *Plan) zipped(ctx context.Context, path string, items []*Item, report progress.Reporter, judge func(file string) error) (*Archive, error) {
	items = slices.Clone(items)
	slices.SortStableFunc(items, func(a, b *Item) int { return cmp.Or(cmp.Compare(b.Size(), a.Size()), cmpNames(a.Name, b.Name)) })
	store := deflate.NewStore(filepath.Join(p.to.Cache, "deflated"))
	streams, err := p.streams(ctx, store, items, report)
	if err != nil {
		return nil, err
	}
	a := &Archive{Path: path, Entries: len(items)}
	err = place.File(path, func(f *os.File) error {
		if err := a.write(ctx, f, path, items, streams, p.to.Cache); err != nil {
			return err
		}
		return judge(f.Name())
	})
	if err != nil {
		return nil, err
	}
	return a, store.Trim()
}

// streams has the items compressed.
func (p *Plan) streams(ctx context.Context, store *deflate.Store, items []*Item, report progress.Reporter) ([]*deflate.Stream, error) {
	var contents []deflate.Content
	var total int64
	for _, it := range items {
		f := p.result.File(it.Name)
		contents = append(contents, deflate.Content{
			Name: it.Name, SHA256: f.SHA256, CRC32: f.CRC32, Bytes: f.Bytes, Open: it.Open,
			Dense: f.Encoding != "" || dense[f.Kind],
		})
		total += f.Bytes
	}
	report.Begin("packing", total)
	defer report.End()
	return store.Streams(ctx, contents, report.Advance)
}

// write writes the archive and reads it back.
func (a *Archive) write(ctx context.Context, f *os.File, path string, items []*Item, streams []*deflate.Stream, cache string) error {
	whole := crc32.New(castagnoli)
	sum := newSummer(filepath.Join(cache, "sums"), items, streams)
	buffered := bufio.NewWriterSize(io.MultiWriter(f, whole, sum), 256<<10)
	out := zip.NewWriter(buffered)
	for i, it := range items {
		if err := ctx.Err(); err != nil {
			return err
		}
		if err := entry(out, it.Name, streams[i]); err != nil {
			var changed *deflate.Changed
			if errors.As(err, &changed) {
				return err
			}
			return fmt.Errorf("writing %s into %s: %w", it.Name, path, err)
		}
		if sum.wants(i) {
			if err := errors.Join(out.Flush(), buffered.Flush()); err != nil {
				return fmt.Errorf("writing %s: %w", path, err)
			}
			sum.mark(i)
		}
	}
	if err := errors.Join(out.Close(), buffered.Flush()); err != nil {
		return fmt.Errorf("writing %s: %w", path, err)
	}
	var err error
	if a.Bytes, err = f.Seek(0, io.SeekCurrent); err != nil {
		return err
	}
	if a.SHA256, err = sum.hex(f, a.Bytes); err != nil {
		return fmt.Errorf("reading %s back: %w", path, err)
	}
	return readBack(f, a.Bytes, whole.Sum32(), items, streams)
}

func entry(out *zip.Writer, name string, s *deflate.Stream) error {
	h := &zip.FileHeader{Name: name, CRC32: s.CRC32, UncompressedSize64: uint64(s.Bytes), CompressedSize64: uint64(s.Packed)}
	//lint:ignore SA1019 raw entries take their date from here
	h.ModifiedDate = written
	if s.Deflated {
		h.Method = zip.Deflate
	}
	h.SetMode(0o644)
	w, err := out.CreateRaw(h)
	if err != nil {
		return err
	}
	n, err := s.WriteTo(w)
	if err == nil && n != s.Packed {
		err = fmt.Errorf("it has %d bytes where %d were announced", n, s.Packed)
	}
	return err
}

var castagnoli = crc32.MakeTable(crc32.Castagnoli)

// readBack reads the archive from the disk: its bytes must be those that were written, and its directory must say what was
// planned. That each stream unpacks to its content was made sure of when it was compressed.
func readBack(f *os.File, size int64, whole uint32, items []*Item, streams []*deflate.Stream) error {
	again := crc32.New(castagnoli)
	if _, err := io.CopyBuffer(struct{ io.Writer }{again}, io.NewSectionReader(f, 0, size), make([]byte, 256<<10)); err != nil {
		return fmt.Errorf("reading the new archive back: %w", err)
	}
	z, err := zip.NewReader(f, size)
	if err != nil {
		return fmt.Errorf("reading the new archive back: %w", err)
	}
	if again.Sum32() != whole || len(z.File) != len(items) {
		return errors.New("reading the new archive back: the disk does not hold what was written to it")
	}
	for i, e := range z.File {
		s := streams[i]
		if _, err := e.DataOffset(); err != nil || e.Name != items[i].Name || e.CRC32 != s.CRC32 || e.UncompressedSize64 != uint64(s.Bytes) || e.CompressedSize64 != uint64(s.Packed) {
			return fmt.Errorf("reading the new archive back: %s is not as planned", items[i].Name)
		}
	}
	return nil
}
