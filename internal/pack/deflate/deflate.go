// Package deflate compresses contents (RFC 1951) in blocks that don't depend on each other, so that all cores work on a
// large file, and keeps the blocks in a folder by their content, so that what was compressed once is not compressed
// again. The folder can be deleted at any time. Putting the blocks into an archive is left to pack.
package deflate

import (
	"bytes"
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"hash/crc32"
	"io"
	"runtime"
	"sync"

	"github.com/klauspost/compress/flate"
	"golang.org/x/sync/errgroup"
	"golang.org/x/sync/semaphore"
)

const (
	blockSize = 1 << 20 // of the content, in bytes
	level     = 6
	leastKept = 4 << 10 // smaller contents are compressed again sooner than they are found
)

// end is what ends a deflate stream after blocks that were only flushed: an empty block, marked as the last.
var end = []byte{0x03, 0x00}

// A Content is what is to be compressed.
type Content struct {
	Name   string // for errors
	SHA256 [sha256.Size]byte
	CRC32  uint32
	Bytes  int64
	Open   func() (io.ReadCloser, error)
	Dense  bool // it is of a kind that is compressed already, so that a sample is tried first
}

// Changed says that a content's bytes are not those that were announced.
type Changed struct{ Name string }

func (e *Changed) Error() string {
	return e.Name + ": it changed while it was packed; wait until the engine has finished writing, and try again"
}

// A Stream is a content as it stands in an archive: deflated, or stored as it is where deflating gains nothing.
type Stream struct {
	Content
	Deflated bool
	Packed   int64 // its length in the archive, in bytes

	blocks []block
	store  *Store
}

// Key tells streams apart: two with the same key are the same bytes.
func (s *Stream) Key() []byte {
	key := fmt.Appendf(nil, "%x %t %d", s.SHA256, s.Deflated, s.Packed)
	for _, b := range s.blocks {
		key = fmt.Appendf(key, " %d %08x", b.Packed, b.Sum)
	}
	return key
}

// A block is one piece of a stream: a record of the store, or bytes of its own.
type block struct {
	place
	data []byte
}

// Streams compresses contents, with all cores, and returns a stream for each; advance hears of each content that is done, one
// at a time. Errors are *Changed for a content that is
// not what was announced; others name the content.
func (s *Store) Streams(ctx context.Context, contents []Content, advance func(int64)) ([]*Stream, error) {
	list := make([]*Stream, len(contents))
	work, ctx := errgroup.WithContext(ctx)
	work.SetLimit(runtime.GOMAXPROCS(0) + 1)
	cores := semaphore.NewWeighted(int64(runtime.GOMAXPROCS(0)))
	var told sync.Mutex
	for i, c := range contents {
		work.Go(func() error {
			if err := ctx.Err(); err != nil {
				return err
			}
			stream, err := s.made(ctx, c, cores)
			var changed *Changed
			if err != nil && !errors.As(err, &changed) && ctx.Err() == nil {
				err = fmt.Errorf("packing %s: %w", c.Name, err)
			}
			list[i] = stream
			told.Lock()
			advance(c.Bytes)
			told.Unlock()
			return err
		})
	}
	return list, work.Wait()
}

// made returns the stream of a content, compressing what was not compressed before.
func (s *Store) made(ctx context.Context, c Content, cores *semaphore.Weighted) (*Stream, error) {
	if c.Bytes == 0 {
		return s.stored(c), nil
	}
	if known := s.stream(c); known != nil {
		return known, nil
	}
	r, err := c.Open()
	if err != nil {
		return nil, err
	}
	defer r.Close()
	stream := &Stream{Content: c, Deflated: true, Packed: int64(len(end)), store: s}
	if err := s.blocks(ctx, stream, r, cores); err != nil {
		return nil, err
	}
	if stream.Packed >= c.Bytes {
		stream = s.stored(c)
	}
	return stream, s.note(stream)
}

func (s *Store) stored(c Content) *Stream { return &Stream{Content: c, Packed: c.Bytes, store: s} }

// blocks reads a content, and has its blocks compressed.
func (s *Store) blocks(ctx context.Context, stream *Stream, r io.Reader, cores *semaphore.Weighted) error {
	count := int((stream.Bytes + blockSize - 1) / blockSize)
	stream.blocks = make([]block, count)
	work, ctx := errgroup.WithContext(ctx)
	crc := crc32.NewIEEE()
	for i := range count {
		if err := cores.Acquire(ctx, 1); err != nil {
			return errors.Join(work.Wait(), err)
		}
		data := takeBuffer()
		n, err := io.ReadFull(r, data[:min(blockSize, stream.Bytes-int64(i)*blockSize)])
		data = data[:n]
		crc.Write(data)
		if i == 0 && err == nil && stream.Dense && dense(data) {
			cores.Release(1)
			giveBuffer(data)
			stream.Packed = stream.Bytes // stored; the rest is read when it is written
			return nil
		}
		work.Go(func() error {
			defer cores.Release(1)
			defer giveBuffer(data)
			if err != nil {
				return shorter(stream.Name, err)
			}
			return s.block(&stream.blocks[i], data, count == 1, stream.SHA256)
		})
		if err != nil {
			break
		}
	}
	if err := work.Wait(); err != nil {
		return err
	}
	if more, _ := r.Read(make([]byte, 1)); more > 0 || crc.Sum32() != stream.CRC32 {
		return &Changed{stream.Name}
	}
	for _, b := range stream.blocks {
		stream.Packed += int64(b.Packed)
	}
	return nil
}

func shorter(name string, err error) error {
	if errors.Is(err, io.ErrUnexpectedEOF) || errors.Is(err, io.EOF) {
		return &Changed{name}
	}
	return err
}

// block compresses one block, unless it is known. only says that it is all of a content, whose sum is sum.
func (s *Store) block(b *block, data []byte, only bool, sum [sha256.Size]byte) error {
	if !only {
		sum = sha256.Sum256(data)
	}
	size := int64(len(data))
	if p, ok := s.find(blockRecord, sum, size); ok {
		b.place = p
		return nil
	}
	packed, err := compress(data)
	if err != nil {
		return err
	}
	if only && (size < leastKept || len(packed) >= len(data)) {
		b.data = packed
		b.header = header{Bytes: size, Packed: int32(len(packed)), Sum: crc32.Checksum(packed, castagnoli)}
		return nil
	}
	b.place, err = s.keep(blockRecord, sum, size, packed)
	return err
}

var castagnoli = crc32.MakeTable(crc32.Castagnoli)

// compress deflates a block without marking it as the last, and makes sure that it inflates to what it was.
func compress(data []byte) ([]byte, error) {
	w, ok := writers.Get().(*flate.Writer)
	var out bytes.Buffer
	out.Grow(len(data)/2 + 64)
	if ok {
		w.Reset(&out)
	} else {
		var err error
		if w, err = flate.NewWriter(&out, level); err != nil {
			return nil, err
		}
	}
	defer writers.Put(w)
	if _, err := w.Write(data); err != nil {
		return nil, err
	}
	if err := w.Flush(); err != nil {
		return nil, err
	}
	back := takeBuffer()
	defer giveBuffer(back)
	r := readers.Get().(io.Reader)
	defer readers.Put(r)
	if err := r.(flate.Resetter).Reset(io.MultiReader(bytes.NewReader(out.Bytes()), bytes.NewReader(end)), nil); err != nil {
		return nil, err
	}
	n, err := io.ReadFull(r, back[:len(data)])
	if err != nil || !bytes.Equal(back[:n], data) {
		return nil, errors.New("what was compressed does not unpack to what it was; this machine's memory may be faulty")
	}
	return out.Bytes(), nil
}

// dense reports whether deflating gains nothing worth having, by a sample from the middle.
func dense(data []byte) bool {
	sample := data[len(data)/3:]
	sample = sample[:min(len(sample), 32<<10)]
	var n length
	w, err := flate.NewWriter(&n, flate.BestSpeed)
	if err != nil {
		return false
	}
	w.Write(sample) // counting never fails
	w.Close()
	return int(n) > len(sample)*98/100
}

// length counts what is written.
type length int

func (n *length) Write(p []byte) (int, error) {
	*n += length(len(p))
	return len(p), nil
}

// writers, readers and buffers are used again, since making them takes longer than a small file.
var (
	writers sync.Pool
	readers = sync.Pool{New: func() any { return flate.NewReader(bytes.NewReader(nil)) }}
	buffers = sync.Pool{New: func() any { return new([blockSize]byte) }}
)

func takeBuffer() []byte  { return buffers.Get().(*[blockSize]byte)[:] }
func giveBuffer(b []byte) { buffers.Put((*[blockSize]byte)(b[:blockSize])) }
