package deflate

import (
	"bytes"
	"encoding/binary"
	"encoding/hex"
	"errors"
	"fmt"
	"hash/crc32"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"sync/atomic"
	"time"
)

// A Store keeps what was compressed.
type Store struct {
	folder string
	wrote  atomic.Bool
}

// format is part of every name in the folder. It changes whenever the same content would be compressed into other bytes.
const format = "1"

// NewStore returns the store in that folder, which need not exist yet.
func NewStore(folder string) *Store { return &Store{folder: folder} }

func (s *Store) path(sum [32]byte, what string) string {
	name := hex.EncodeToString(sum[:])
	return filepath.Join(s.folder, name[:2], name[2:]+"."+what+format)
}

// header stands before the bytes of a kept block.
type header struct {
	Bytes, Packed int32
	Sum           uint32
	Own           uint32 // CRC-32C of the fields above
}

const headerSize = 16

func (b *block) header() []byte {
	h, _ := binary.Append(nil, binary.LittleEndian, header{b.Bytes, b.Packed, b.Sum, 0}) // plain numbers never fail
	binary.LittleEndian.PutUint32(h[headerSize-4:], crc32.Checksum(h[:headerSize-4], castagnoli))
	return h
}

// find looks for a block by its content. What is cut off or damaged is as good as absent.
func (s *Store) find(b *block) bool {
	f, err := os.Open(s.path(b.SHA256, "block"))
	if err != nil {
		return false
	}
	defer f.Close()
	var raw [headerSize]byte
	var h header
	if _, err := io.ReadFull(f, raw[:]); err != nil {
		return false
	}
	if _, err := binary.Decode(raw[:], binary.LittleEndian, &h); err != nil || h.Own != crc32.Checksum(raw[:headerSize-4], castagnoli) || h.Bytes != b.Bytes {
		return false
	}
	if info, err := f.Stat(); err != nil || info.Size() != headerSize+int64(h.Packed) {
		return false
	}
	b.Packed, b.Sum = h.Packed, h.Sum
	return true
}

// keep writes a block down.
func (s *Store) keep(b *block, packed []byte) error {
	s.wrote.Store(true)
	return s.put(s.path(b.SHA256, "block"), append(b.header(), packed...))
}

// put writes a file without waiting for the disk: one that is cut off is found out when it is read.
func (s *Store) put(path string, data []byte) error {
	if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
		return fmt.Errorf("keeping what was compressed: %w", err)
	}
	f, err := os.CreateTemp(filepath.Dir(path), "new-*")
	if err != nil {
		return fmt.Errorf("keeping what was compressed: %w", err)
	}
	_, err = f.Write(data)
	err = errors.Join(err, f.Close())
	if err == nil {
		err = os.Rename(f.Name(), path)
	}
	if err != nil {
		os.Remove(f.Name())
		return fmt.Errorf("keeping what was compressed: %w", err)
	}
	return nil
}

// A list is kept for a content of several blocks, and for one that is stored: its blocks, after a check sum.
func (s *Store) note(stream *Stream) {
	if len(stream.blocks) == 1 && stream.Deflated || stream.Bytes < leastKept {
		return
	}
	var body bytes.Buffer
	for _, b := range stream.blocks {
		body.Write(b.SHA256[:])
		body.Write(b.header())
	}
	data := binary.LittleEndian.AppendUint32(nil, crc32.Checksum(body.Bytes(), castagnoli))
	s.wrote.Store(true)
	_ = s.put(s.path(stream.SHA256, "list"), append(data, body.Bytes()...)) // without it the blocks are found one by one
}

// known returns the stream of a content that was compressed before, or nil.
func (s *Store) known(c Content) *Stream {
	if c.Bytes < leastKept {
		return nil
	}
	stream := &Stream{Content: c, Deflated: true, Packed: int64(len(end)), store: s}
	if only := (block{SHA256: c.SHA256, Bytes: int32(min(c.Bytes, blockSize))}); c.Bytes <= blockSize && s.find(&only) {
		stream.blocks = []block{only}
		stream.Packed += int64(only.Packed)
		return stream
	}
	data, err := os.ReadFile(s.path(c.SHA256, "list"))
	const each = 32 + headerSize
	if err != nil || len(data) < 4 || (len(data)-4)%each != 0 || binary.LittleEndian.Uint32(data) != crc32.Checksum(data[4:], castagnoli) {
		return nil
	}
	if len(data) == 4 {
		return s.stored(c)
	}
	var total int64
	for part := range slices.Chunk(data[4:], each) {
		var h header
		if _, err := binary.Decode(part[32:], binary.LittleEndian, &h); err != nil {
			return nil
		}
		b := block{SHA256: [32]byte(part), Bytes: h.Bytes}
		if !s.find(&b) {
			return nil
		}
		total += int64(b.Bytes)
		stream.blocks, stream.Packed = append(stream.blocks, b), stream.Packed+int64(b.Packed)
	}
	if total != c.Bytes {
		return nil
	}
	return stream
}

// WriteTo writes the stream, and makes sure that each byte is what it was when it was compressed.
func (s *Stream) WriteTo(w io.Writer) (int64, error) {
	if !s.Deflated {
		return s.copy(w)
	}
	var total int64
	for i := range s.blocks {
		data, err := s.blocks[i].read(s.store)
		if err != nil {
			return total, err
		}
		n, err := w.Write(data)
		total += int64(n)
		if err != nil {
			return total, err
		}
	}
	n, err := w.Write(end)
	return total + int64(n), err
}

func (b *block) read(s *Store) ([]byte, error) {
	if b.data != nil {
		return b.data, nil
	}
	path := s.path(b.SHA256, "block")
	data, err := os.ReadFile(path)
	if err != nil {
		return nil, fmt.Errorf("reading what was compressed: %w", err)
	}
	if len(data) != headerSize+int(b.Packed) || crc32.Checksum(data[headerSize:], castagnoli) != b.Sum {
		os.Remove(path) // so that it is made anew
		return nil, fmt.Errorf("%s is damaged; it was taken away, so run the same command again", path)
	}
	return data[headerSize:], nil
}

// copy writes the content as it is.
func (s *Stream) copy(w io.Writer) (int64, error) {
	if s.Bytes == 0 {
		return 0, nil
	}
	r, err := s.Open()
	if err != nil {
		return 0, err
	}
	defer r.Close()
	crc := crc32.NewIEEE()
	n, err := io.CopyBuffer(struct{ io.Writer }{io.MultiWriter(w, crc)}, struct{ io.Reader }{io.LimitReader(r, s.Bytes+1)}, make([]byte, 256<<10))
	if err != nil {
		return n, err
	}
	if n != s.Bytes || crc.Sum32() != s.CRC32 {
		return n, &Changed{s.Name}
	}
	return n, nil
}

// Limits on what is kept.
const (
	mostKept  = 4 << 30 // bytes
	afterTrim = mostKept * 3 / 4
)

// Trim takes away what was not written lately, when there is more than the store may hold. What is taken away is made
// again when it is needed.
func (s *Store) Trim() error {
	if !s.wrote.Load() {
		return nil
	}
	type kept struct {
		path string
		size int64
		at   time.Time
	}
	var all []kept
	var total int64
	err := filepath.WalkDir(s.folder, func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		info, err := d.Info()
		if err != nil {
			return nil // another havvel took it away
		}
		total += info.Size()
		all = append(all, kept{path, info.Size(), info.ModTime()})
		return nil
	})
	if err != nil || total <= mostKept {
		return err
	}
	slices.SortFunc(all, func(a, b kept) int { return a.at.Compare(b.at) })
	for _, k := range all {
		if total <= afterTrim {
			break
		}
		if os.Remove(k.path) == nil {
			total -= k.size
		}
	}
	return nil
}
