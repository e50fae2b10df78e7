package pack

import (
	"archive/zip"
	"fmt"
	"io"
	"sync/atomic"

	"havvel/internal/disk"
	"havvel/internal/pack/deflate"
)

// readingBack reads an archive from the disk while it is written, behind the writer.
type readingBack struct {
	f       disk.File
	entries []zipEntry // as planned
	cursor  *cursor
	over    chan error
	wrong   *deflate.Stream // the first that is not what it was when it was compressed
}

// readBack begins to read an archive back; stop it in the end. Nobody else may use sum until then.
func readBack(f disk.File, items []*Item, streams []*deflate.Stream, sum *summer) *readingBack {
	b := &readingBack{f: f, entries: layout(items, streams), cursor: newCursor(f), over: make(chan error, 1)}
	go func() { b.over <- b.compare(sum) }()
	return b
}

// reaches says how far the archive is written.
func (b *readingBack) reaches(at int64) { b.cursor.reaches(at) }

func (b *readingBack) stop() { b.cursor.close() }

// finish waits until the whole archive, which is of that size, is read: each stream must be what it was when it was compressed, and its
// directory must say what was planned. That a stream unpacks to its content was made sure of when it was compressed.
func (b *readingBack) finish(size int64) error {
	b.cursor.ends(size)
	if err := <-b.over; err != nil {
		return err
	}
	if b.wrong != nil {
		return b.wrong.Differs()
	}
	z, err := zip.NewReader(b.f, size)
	if err != nil {
		return err
	}
	if len(z.File) != len(b.entries) {
		return fmt.Errorf("it has %d files where %d were planned", len(z.File), len(b.entries))
	}
	for i, e := range z.File {
		want := b.entries[i]
		s := want.stream
		at, err := e.DataOffset()
		if err != nil || at != want.data() || e.Name != want.name || e.CRC32 != s.CRC32 || e.UncompressedSize64 != uint64(s.Bytes) ||
			e.CompressedSize64 != uint64(s.Packed) {
			return fmt.Errorf("%s is not as planned", want.name)
		}
	}
	return nil
}

// compare reads the whole archive, for its sum too, up to the first stream that is wrong.
func (b *readingBack) compare(sum *summer) error {
	hash := func(p []byte) { sum.Write(p) } // never fails
	for i, e := range b.entries {
		if err := b.cursor.pass(e.data(), hash); err != nil {
			return err
		}
		same := e.stream.Verifier()
		err := b.cursor.pass(e.end(), func(p []byte) {
			hash(p)
			same.Write(p)
		})
		if err != nil {
			return err
		}
		if !same.Same() {
			b.wrong = e.stream
			return nil
		}
		if sum.wants(i) {
			sum.mark(i)
		}
	}
	return b.cursor.rest(hash)
}

// cursor reads a file from its beginning to its end, once, as far as it is written, and a few pieces ahead of what works on what was
// read.
type cursor struct {
	at      int64
	left    []byte // of the piece that is worked on
	buffer  []byte // that it stands in
	pieces  chan piece
	free    chan []byte
	written atomic.Int64  // bytes that may be read
	more    chan struct{} // there are more; closed when they are all
	over    chan struct{}
}

type piece struct {
	data []byte
	err  error
}

// newCursor begins to read; close it in the end.
func newCursor(r io.ReaderAt) *cursor {
	c := &cursor{pieces: make(chan piece), free: make(chan []byte, 3), more: make(chan struct{}, 1), over: make(chan struct{})}
	for range cap(c.free) {
		c.free <- make([]byte, 256<<10)
	}
	go c.read(r)
	return c
}

func (c *cursor) close() { close(c.over) }

func (c *cursor) reaches(at int64) {
	c.written.Store(at)
	select {
	case c.more <- struct{}{}:
	default: // that there is more is known already
	}
}

func (c *cursor) ends(at int64) {
	c.written.Store(at)
	close(c.more)
}

func (c *cursor) read(r io.ReaderAt) {
	defer close(c.pieces)
	ended := false
	for at := int64(0); ; {
		until := c.written.Load()
		if at == until {
			if ended {
				return
			}
			select {
			case <-c.over:
				return
			case _, open := <-c.more:
				ended = !open
			}
			continue
		}
		select {
		case <-c.over:
			return
		case b := <-c.free:
			n, err := r.ReadAt(b[:min(int64(len(b)), until-at)], at)
			if at += int64(n); at == until {
				err = nil
			}
			select {
			case <-c.over:
				return
			case c.pieces <- piece{b[:n], err}:
			}
			if err != nil {
				return
			}
		}
	}
}

// next takes up the next piece.
func (c *cursor) next() error {
	if c.buffer != nil {
		c.free <- c.buffer
		c.buffer = nil
	}
	p, more := <-c.pieces
	switch {
	case !more:
		return io.EOF
	case p.err != nil:
		return p.err
	}
	c.left, c.buffer = p.data, p.data[:cap(p.data)]
	return nil
}

// pass reads up to a place and hands what it reads to hand.
func (c *cursor) pass(to int64, hand func([]byte)) error {
	for c.at < to {
		if len(c.left) == 0 {
			if err := c.next(); err == io.EOF {
				return io.ErrUnexpectedEOF
			} else if err != nil {
				return err
			}
		}
		n := min(int64(len(c.left)), to-c.at)
		hand(c.left[:n])
		c.left, c.at = c.left[n:], c.at+n
	}
	return nil
}

// rest reads up to the end.
func (c *cursor) rest(hand func([]byte)) error {
	for {
		hand(c.left)
		c.at += int64(len(c.left))
		if err := c.next(); err == io.EOF {
			return nil
		} else if err != nil {
			return err
		}
	}
}
