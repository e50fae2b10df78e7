// Package deflate compresses contents (RFC 1951) in pieces, each of which knows only the bytes before it, so that all cores work on a
// large file, and keeps the pieces in a folder by their content, so that what was compressed once is not compressed
// again. The folder can be deleted at any time. Putting the pieces into an archive is left to pack.
package deflate

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/binary"
	"errors"
	"fmt"
	"hash/crc32"
	"io"
	"runtime"
	"sync"

	"github.com/klauspost/compress/flate"
	"github.com/zeebo/xxh3"
	"golang.org/x/sync/errgroup"
	"golang.org/x/sync/semaphore"
)

const (
	blockSize = 1 << 20 // of a piece of the content, in bytes
	leastKept = 4 << 10 // smaller contents are compressed again sooner than they are found
)

// A Content is what is to be compressed.
type Content struct {
	Name   string // for errors
	SHA256 [sha256.Size]byte
	CRC32  uint32
	Bytes  int64
	Open   func() (io.ReadCloser, error)
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
	effort Effort
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
	spot
	data []byte
}

// An Effort is how much time is spent on making contents small.
type Effort uint8

// The efforts.
const (
	Quick    Effort = iota // less than zip takes
	Smallest               // some times as much as zip -9 takes, once
)

// Streams compresses contents, with all cores, and returns a stream for each; advance hears of each piece that is done, in bytes of the
// content, one at a time. Errors are *Changed for a content that is not what was announced; others name the content.
func (s *Store) Streams(ctx context.Context, contents []Content, effort Effort, advance func(int64)) ([]*Stream, error) {
	list := make([]*Stream, len(contents))
	work, ctx := errgroup.WithContext(ctx)
	work.SetLimit(runtime.GOMAXPROCS(0) + 1)
	cores := semaphore.NewWeighted(int64(runtime.GOMAXPROCS(0)))
	var told sync.Mutex
	tell := func(bytes int64) {
		told.Lock()
		defer told.Unlock()
		advance(bytes)
	}
	for i, c := range contents {
		work.Go(func() error {
			if err := ctx.Err(); err != nil {
				return err
			}
			stream, err := s.made(ctx, c, effort, cores, tell)
			var changed *Changed
			if err != nil && !errors.As(err, &changed) && ctx.Err() == nil {
				err = fmt.Errorf("packing %s: %w", c.Name, err)
			}
			list[i] = stream
			return err
		})
	}
	return list, work.Wait()
}

// made returns the stream of a content, compressing what was not compressed before.
func (s *Store) made(ctx context.Context, c Content, effort Effort, cores *semaphore.Weighted, advance func(int64)) (*Stream, error) {
	if c.Bytes == 0 {
		return s.stored(c), nil
	}
	if known := s.stream(c, effort); known != nil {
		advance(c.Bytes)
		return known, nil
	}
	r, err := c.Open()
	if err != nil {
		return nil, err
	}
	defer r.Close()
	stream := &Stream{Content: c, Deflated: true, store: s, effort: effort}
	if err := s.blocks(ctx, stream, r, cores, advance); err != nil {
		return nil, err
	}
	if stream.Packed >= c.Bytes {
		stream = s.stored(c)
	}
	stream.effort = effort
	return stream, s.note(stream)
}

func (s *Store) stored(c Content) *Stream { return &Stream{Content: c, Packed: c.Bytes, store: s} }

// blocks reads a content, and has its blocks compressed.
func (s *Store) blocks(ctx context.Context, stream *Stream, r io.Reader, cores *semaphore.Weighted, advance func(int64)) error {
	count := int((stream.Bytes + blockSize - 1) / blockSize)
	stream.blocks = make([]block, count)
	work, ctx := errgroup.WithContext(ctx)
	crc := crc32.NewIEEE()
	var before [windowSize]byte
	for i := range count {
		if err := cores.Acquire(ctx, 1); err != nil {
			if failed := work.Wait(); failed != nil {
				return failed // why it was stopped
			}
			return err
		}
		buffer := takeBuffer()
		begin := 0
		if i > 0 {
			begin = copy(buffer, before[:])
		}
		n, err := io.ReadFull(r, buffer[begin:begin+int(min(blockSize, stream.Bytes-int64(i)*blockSize))])
		data := buffer[:begin+n]
		crc.Write(data[begin:])
		if i < count-1 && err == nil {
			copy(before[:], data[len(data)-windowSize:])
		}
		work.Go(func() error {
			defer cores.Release(1)
			defer giveBuffer(buffer)
			if err != nil {
				return shorter(stream.Name, err)
			}
			defer advance(int64(n))
			return s.block(&stream.blocks[i], data, begin, i == count-1, stream)
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

// block compresses data[begin:] of a stream, unless it is known; what stands before begin comes before it in the content.
func (s *Store) block(b *block, data []byte, begin int, last bool, of *Stream) error {
	size := int64(len(data) - begin)
	only := last && begin == 0
	sum := of.SHA256
	if !only {
		sum = keyOf(data, begin, last)
	}
	if p, ok := s.verified(of.effort.blocks(), sum, size); ok {
		b.spot = p
		return nil
	}
	pool := &encoders[of.effort]
	e := pool.Get().(compressor)
	defer pool.Put(e)
	packed := e.compress(data, begin, last)
	if err := check(packed, data, begin, last); err != nil {
		return err
	}
	if only && (size < leastKept || int64(len(packed)) >= size) {
		b.data = bytes.Clone(packed)
		b.header = header{Bytes: size, Packed: int32(len(packed)), Sum: crc32.Checksum(packed, castagnoli)}
		return nil
	}
	var err error
	b.spot, err = s.keep(of.effort.blocks(), sum, size, packed)
	return err
}

// A compressor deflates data[begin:]; what stands before begin is known to the reader. Only the last piece of a content ends its
// stream. The bytes are good until it is used again.
type compressor interface {
	compress(data []byte, begin int, last bool) []byte
}

// keyOf tells pieces apart by all that their compressed bytes depend on. It need not withstand an attack: an archive is read back and
// compared
// with its contents before it counts.
func keyOf(data []byte, begin int, last bool) (key [sha256.Size]byte) {
	sum := xxh3.Hash128(data).Bytes()
	copy(key[:], sum[:])
	binary.LittleEndian.PutUint64(key[16:], uint64(len(data)))
	binary.LittleEndian.PutUint32(key[24:], uint32(begin))
	if last {
		key[28] = 1
	}
	return key
}

var castagnoli = crc32.MakeTable(crc32.Castagnoli)

// check makes sure that a piece inflates to what it was.
func check(packed, data []byte, begin int, last bool) error {
	back := takeBuffer()
	defer giveBuffer(back)
	r := readers.Get().(io.Reader)
	defer readers.Put(r)
	if err := r.(flate.Resetter).Reset(bytes.NewReader(packed), data[:begin]); err != nil {
		return err
	}
	n, err := io.ReadFull(r, back[:len(data)-begin])
	if err == nil && last {
		if n, err := r.Read(make([]byte, 1)); n > 0 || err != io.EOF {
			return errUnpacks
		}
	}
	if err != nil || !bytes.Equal(back[:n], data[begin:]) {
		return errUnpacks
	}
	return nil
}

var errUnpacks = errors.New("what was compressed does not unpack to what it was; this machine's memory may be faulty")

// encoders, readers and buffers are used again, since making them takes longer than a small file.
var (
	encoders = [...]sync.Pool{Quick: {New: func() any { return newEncoder() }}, Smallest: {New: func() any { return newThorough() }}}
	readers  = sync.Pool{New: func() any { return flate.NewReader(bytes.NewReader(nil)) }}
	buffers  = sync.Pool{New: func() any { return new([windowSize + blockSize]byte) }}
)

func takeBuffer() []byte  { return buffers.Get().(*[windowSize + blockSize]byte)[:] }
func giveBuffer(b []byte) { buffers.Put((*[windowSize + blockSize]byte)(b[:windowSize+blockSize])) }
