package encoding

import (
	"bufio"
	"encoding/binary"
	"errors"
	"fmt"
	"hash"
	"hash/adler32"
	"hash/crc32"
	"io"
	"sync"

	"github.com/andybalholm/brotli"
	"github.com/klauspost/compress/flate"
	"github.com/klauspost/compress/zstd"
)

// A Reader decodes a format.
type Reader struct {
	Members  int  // streams that the file holds one after the other, of which a browser decodes the first; known at the end
	Trailing bool // bytes follow that are none of the format's; known at the end

	raw  *bufio.Reader
	next func(p []byte) (int, error)
	err  error
	free func()
}

// NewReader returns a reader of what r holds in a format: of all members of a gzip file, although browsers decode only the first. Bytes
// after the end are no error. A format that is not known is read as it is.
func NewReader(r io.Reader, format string) *Reader {
	d := &Reader{raw: bufio.NewReaderSize(r, 32<<10), free: func() {}}
	switch format {
	case Gzip:
		d.next = (&gzipped{Reader: d}).read
	case Zlib:
		d.next = (&zlibbed{Reader: d}).read
	case Raw:
		inflate := d.inflater()
		d.next = func(p []byte) (int, error) { return d.last(inflate.Read(p)) }
	case Brotli:
		b := brotlis.Get().(*brotli.Reader)
		b.Reset(d.raw) // never fails
		d.free = func() { brotlis.Put(b) }
		d.next = func(p []byte) (int, error) { return d.brotli(b.Read(p)) }
	case Zstd:
		d.next = d.zstd()
	default:
		d.next = d.raw.Read
	}
	return d
}

func (d *Reader) Read(p []byte) (int, error) {
	if d.err != nil {
		return 0, d.err
	}
	n, err := d.next(p)
	if errors.Is(err, io.EOF) && err != io.EOF {
		err = io.ErrUnexpectedEOF
	}
	d.err = err
	return n, err
}

// Close lets go of the reader, not of what it reads from.
func (d *Reader) Close() error {
	d.err = errors.New("read after it was closed")
	d.free()
	d.free = func() {}
	return nil
}

// The decoders take long to make, and are used again.
var (
	brotlis   = sync.Pool{New: func() any { return brotli.NewReader(nil) }}
	inflaters = sync.Pool{New: func() any { return flate.NewReader(nil) }}
)

func (d *Reader) inflater() io.Reader {
	f := inflaters.Get().(io.ReadCloser)
	f.(flate.Resetter).Reset(d.raw, nil) // never fails
	d.free = func() { inflaters.Put(f) }
	return f
}

// last notes at the end of the one stream what follows it.
func (d *Reader) last(n int, err error) (int, error) {
	if err == io.EOF {
		_, more := d.raw.ReadByte()
		d.Trailing, d.Members = more == nil, 1
	}
	return n, err
}

func (d *Reader) brotli(n int, err error) (int, error) {
	if err != nil && err.Error() == excessive {
		d.Trailing, d.Members = true, 1
		return n, io.EOF
	}
	return d.last(n, err)
}

// excessive is what the decoder says of bytes after the end; it has no value for it.
const excessive = "brotli: excessive input"

func (d *Reader) zstd() func(p []byte) (int, error) {
	z, err := zstd.NewReader(d.raw, zstd.WithDecoderConcurrency(1), zstd.WithDecoderLowmem(true), zstd.WithDecoderMaxWindow(largestZstd))
	if err != nil {
		return func([]byte) (int, error) { return 0, err }
	}
	d.free = z.Close
	var total int
	return func(p []byte) (int, error) {
		n, err := z.Read(p)
		total += n
		if errors.Is(err, zstd.ErrMagicMismatch) && total > 0 {
			d.Trailing, err = true, io.EOF
		}
		return n, err
	}
}

// largestZstd is the largest window that is decoded, in bytes: the one of zstd --ultra --long=27.
const largestZstd = 128 << 20

// gzipped reads the members of a gzip file (RFC 1952).
type gzipped struct {
	*Reader
	inflate io.Reader
	open    bool // a member is being read
	sum     hash.Hash32
	size    uint32
}

func (g *gzipped) read(p []byte) (int, error) {
	for {
		if !g.open {
			if err := g.header(); err != nil {
				return 0, err
			}
		}
		n, err := g.inflate.Read(p)
		g.sum.Write(p[:n])
		g.size += uint32(n)
		if err == nil {
			return n, nil
		}
		if err != io.EOF {
			return n, err
		}
		var tail [8]byte
		if _, err := io.ReadFull(g.raw, tail[:]); err != nil {
			return n, short(err)
		}
		if binary.LittleEndian.Uint32(tail[:]) != g.sum.Sum32() || binary.LittleEndian.Uint32(tail[4:]) != g.size {
			return n, errSum
		}
		g.open = false
		g.Members++
		if n > 0 {
			return n, nil
		}
	}
}

var errSum = errors.New("its checksum is another")

// header reads a member's header, with fields of any length. The error is io.EOF where no member begins.
func (g *gzipped) header() error {
	head, err := g.raw.Peek(10)
	begins := len(head) >= 3 && head[0] == 0x1f && head[1] == 0x8b && head[2] == 8
	if g.Members > 0 && !begins {
		g.Trailing = len(head) > 0
		return io.EOF
	}
	if err != nil {
		return short(err)
	}
	flags := head[3]
	if !begins || flags&0xe0 != 0 {
		return fmt.Errorf("its gzip header is damaged")
	}
	g.raw.Discard(10) // it was peeked at
	if err := g.fields(flags); err != nil {
		return short(err)
	}
	if g.inflate == nil {
		g.inflate, g.sum = g.inflater(), crc32.NewIEEE()
	} else {
		g.inflate.(flate.Resetter).Reset(g.raw, nil) // never fails
	}
	g.sum.Reset()
	g.open, g.size = true, 0
	return nil
}

// fields reads the fields of a header that its flags name.
func (g *gzipped) fields(flags byte) error {
	if flags&4 != 0 { // extra field
		var length [2]byte
		if _, err := io.ReadFull(g.raw, length[:]); err != nil {
			return err
		}
		if _, err := g.raw.Discard(int(binary.LittleEndian.Uint16(length[:]))); err != nil {
			return err
		}
	}
	for _, field := range []byte{8, 16} { // name, comment: up to a zero
		for flags&field != 0 {
			if b, err := g.raw.ReadByte(); err != nil {
				return err
			} else if b == 0 {
				break
			}
		}
	}
	if flags&2 != 0 { // checksum of the header
		if _, err := g.raw.Discard(2); err != nil {
			return err
		}
	}
	return nil
}

func short(err error) error {
	if err == io.EOF {
		return io.ErrUnexpectedEOF
	}
	return err
}

// zlibbed reads a zlib stream (RFC 1950).
type zlibbed struct {
	*Reader
	inflate io.Reader
	sum     hash.Hash32
}

func (z *zlibbed) read(p []byte) (int, error) {
	if z.inflate == nil {
		var head [2]byte
		if _, err := io.ReadFull(z.raw, head[:]); err != nil {
			return 0, short(err)
		}
		z.inflate, z.sum = z.inflater(), adler32.New()
	}
	n, err := z.inflate.Read(p)
	z.sum.Write(p[:n])
	if err != io.EOF {
		return n, err
	}
	var tail [4]byte
	if _, err := io.ReadFull(z.raw, tail[:]); err != nil {
		return n, short(err)
	}
	if binary.BigEndian.Uint32(tail[:]) != z.sum.Sum32() {
		return n, errSum
	}
	return z.last(n, io.EOF)
}
