package deflate

import (
	"encoding/binary"
	"errors"
	"hash/crc32"
	"io"
)

// A gzipper writes a gzip file (RFC 1952) of one member, without a name and a time, as small as can be.
type gzipper struct {
	w       io.Writer
	data    []byte // what stands before the piece that is filled, and that
	begin   int
	sum     uint32
	size    uint32
	started bool
}

// NewGzip returns a writer of a gzip file that is as small as can be. It takes some times as long as gzip -9. Close ends the file, and
// doesn't close w.
func NewGzip(w io.Writer) io.WriteCloser {
	return &gzipper{w: w, data: make([]byte, 0, windowSize+blockSize)}
}

func (g *gzipper) Write(p []byte) (int, error) {
	all := len(p)
	for len(p) > 0 {
		if len(g.data)-g.begin == blockSize {
			if err := g.piece(false); err != nil {
				return all - len(p), err
			}
		}
		n := min(len(p), blockSize-(len(g.data)-g.begin))
		g.data = append(g.data, p[:n]...)
		g.sum = crc32.Update(g.sum, crc32.IEEETable, p[:n])
		g.size += uint32(n)
		p = p[n:]
	}
	return all, nil
}

// piece compresses what there is, and makes sure that it inflates to what it was.
func (g *gzipper) piece(last bool) error {
	if !g.started {
		g.started = true
		if _, err := g.w.Write([]byte{0x1f, 0x8b, 8, 0, 0, 0, 0, 0, 2, 255}); err != nil {
			return err
		}
	}
	pool := &encoders[Smallest]
	c := pool.Get().(compressor)
	defer pool.Put(c)
	packed := c.compress(g.data, g.begin, last)
	if err := check(packed, g.data, g.begin, last); err != nil {
		return err
	}
	if _, err := g.w.Write(packed); err != nil {
		return err
	}
	g.begin = copy(g.data, g.data[max(0, len(g.data)-windowSize):])
	g.data = g.data[:g.begin]
	return nil
}

func (g *gzipper) Close() error {
	if g.w == nil {
		return errors.New("closed twice")
	}
	if err := g.piece(true); err != nil {
		return err
	}
	end := binary.LittleEndian.AppendUint32(binary.LittleEndian.AppendUint32(nil, g.sum), g.size)
	_, err := g.w.Write(end)
	g.w = nil
	return err
}
