package deflate

import (
	"encoding/binary"
	"errors"
	"fmt"
	"hash/crc32"
	"io"
	"os"
	"path/filepath"
	"sync"

	"havvel/internal/atomicfile"
	"havvel/internal/disk"

	"github.com/gofrs/flock"
)

// A Store keeps what was compressed, in one file that only grows: records, each a header and its bytes. What is cut off or
// damaged is as good as absent. While another havvel writes to the file, this one reads it, and keeps its own records in a
// file that is gone in the end.
type Store struct {
	fs     disk.FS
	file   *shared   // of all records; nil when there is none
	mine   *shared   // that records are added to: file, or one of our own
	old    []*shared // files of our own before it
	spare  error     // why records are kept in a file that is gone in the end
	lock   *flock.Flock
	mu     sync.Mutex
	end    int64 // of mine
	known  map[recordKey]spot
	looked map[int64]bool // places of file whose bytes were looked at
}

type recordKey struct {
	kind recordKind
	sum  [32]byte
}

// shared is a file whose position is held by one at a time.
type shared struct {
	disk.File
	mu sync.Mutex
}

// spot is where a record's bytes are.
type spot struct {
	header
	file *shared
	at   int64
}

type recordKind uint8

const (
	blockRecord      recordKind = iota + 1 // a block, by its content
	listRecord                             // the blocks of a content, by that; none for one that is stored as it is
	smallBlockRecord                       // likewise, made as small as can be
	smallListRecord
)

func (e Effort) blocks() recordKind {
	if e == Smallest {
		return smallBlockRecord
	}
	return blockRecord
}

func (e Effort) lists() recordKind {
	if e == Smallest {
		return smallListRecord
	}
	return listRecord
}

// header is what stands before a record's bytes.
type header struct {
	Magic  uint32
	Kind   recordKind
	_      [3]byte
	Key    [32]byte
	Bytes  int64  // of the content
	Packed int32  // bytes after the header
	Sum    uint32 // CRC-32C of them
	Own    uint32 // CRC-32C of the fields above
}

const (
	headerSize = 60
	magic      = 0x32646c66 // changes whenever the same content would be compressed into other bytes
	mostKept   = 4 << 30    // bytes; a larger file is begun anew
)

// Open returns the store in a folder, which is made if need be. Close it in the end. Where the folder can't be written to, Spare says
// why, and what is compressed is kept elsewhere until then.
func Open(folder string) (*Store, error) { return on(disk.System, folder) }

func on(system disk.FS, folder string) (*Store, error) {
	s := &Store{fs: system, known: map[recordKey]spot{}, looked: map[int64]bool{}}
	if err := s.open(folder); err != nil {
		s.Close()
		*s = Store{fs: system, known: map[recordKey]spot{}, looked: map[int64]bool{}}
		if _, err := s.elsewhere(err); err != nil {
			return nil, fmt.Errorf("keeping what was compressed: %w", err)
		}
	}
	return s, nil
}

// Spare says why what was compressed is not kept; nil when it is.
func (s *Store) Spare() error {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.spare
}

// elsewhere has records kept in a file of the system's, since the store's can't be written to. The error is that reason where there is
// no such file either.
func (s *Store) elsewhere(reason error) (*shared, error) {
	if s.spare != nil {
		return nil, reason
	}
	f, err := s.fs.CreateTemp("", "havvel-blocks-*")
	if err != nil {
		return nil, reason
	}
	if s.mine != nil && s.mine != s.file {
		s.old = append(s.old, s.mine)
	}
	s.mine, s.end, s.spare = &shared{File: f}, 0, reason
	return s.mine, nil
}

func (s *Store) open(folder string) (err error) {
	if err := s.fs.MkdirAll(folder, 0o755); err != nil {
		return err
	}
	path := filepath.Join(folder, "blocks")
	atomicfile.Sweep(path)
	s.lock = flock.New(path + ".lock")
	own, err := s.lock.TryLock()
	if err != nil {
		return err
	}
	f, err := s.fs.OpenFile(path, os.O_RDWR|os.O_CREATE, 0o644)
	if err != nil {
		return err
	}
	s.file = &shared{File: f}
	s.mine = s.file
	s.end = s.scan()
	if !own {
		s.mine, s.end = nil, 0
		own, err := s.fs.CreateTemp(folder, atomicfile.Beside(path))
		if err == nil {
			s.mine = &shared{File: own}
		}
		return err
	}
	if s.end > mostKept {
		clear(s.known)
		s.end = 0
	}
	return s.file.Truncate(s.end)
}

// Close lets go of the store.
func (s *Store) Close() error {
	var errs []error
	if s.mine != nil && s.mine != s.file {
		s.old = append(s.old, s.mine)
	}
	for _, f := range s.old {
		errs = append(errs, f.Close(), s.fs.Remove(f.Name()))
	}
	if s.file != nil {
		errs = append(errs, s.file.Close())
	}
	if s.lock != nil {
		errs = append(errs, s.lock.Close())
	}
	return errors.Join(errs...)
}

// scan reads all headers, and returns where the last whole record ends.
func (s *Store) scan() int64 {
	info, err := s.file.Stat()
	if err != nil {
		return 0
	}
	var raw [headerSize]byte
	for at := int64(0); ; {
		var h header
		if _, err := s.file.ReadAt(raw[:], at); err != nil {
			return at
		}
		if _, err := binary.Decode(raw[:], binary.LittleEndian, &h); err != nil || h.Magic != magic ||
			h.Own != crc32.Checksum(raw[:headerSize-4], castagnoli) {
			return at
		}
		next := at + headerSize + int64(h.Packed)
		if h.Packed < 0 || next > info.Size() {
			return at
		}
		s.known[recordKey{h.Kind, h.Key}] = spot{h, s.file, at + headerSize}
		at = next
	}
}

// find looks for a record.
func (s *Store) find(kind recordKind, key [32]byte, bytes int64) (spot, bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	p, ok := s.known[recordKey{kind, key}]
	return p, ok && p.Bytes == bytes
}

// keep adds a record. It does not wait for the disk: a record that was cut off is found out.
func (s *Store) keep(kind recordKind, key [32]byte, bytes int64, data []byte) (spot, error) {
	h := header{Magic: magic, Kind: kind, Key: key, Bytes: bytes, Packed: int32(len(data)), Sum: crc32.Checksum(data, castagnoli)}
	raw, err := binary.Append(make([]byte, 0, headerSize+len(data)), binary.LittleEndian, h)
	if err != nil {
		return spot{}, err
	}
	binary.LittleEndian.PutUint32(raw[headerSize-4:], crc32.Checksum(raw[:headerSize-4], castagnoli))
	raw = append(raw, data...)
	s.mu.Lock()
	defer s.mu.Unlock()
	if _, err := s.mine.WriteAt(raw, s.end); err != nil {
		mine, err := s.elsewhere(err)
		if err == nil {
			_, err = mine.WriteAt(raw, 0)
		}
		if err != nil {
			return spot{}, fmt.Errorf("keeping what was compressed: %w", err)
		}
	}
	p := spot{h, s.mine, s.end + headerSize}
	s.end += int64(len(raw))
	s.known[recordKey{kind, key}] = p
	return p, nil
}

// read returns a record's bytes; ok is false, and the record forgotten, where they are damaged.
func (s *Store) read(p spot) (data []byte, ok bool) {
	data = make([]byte, p.Packed)
	if _, err := p.file.ReadAt(data, p.at); err == nil && crc32.Checksum(data, castagnoli) == p.Sum {
		return data, true
	}
	s.mu.Lock()
	delete(s.known, recordKey{p.Kind, p.Key})
	s.mu.Unlock()
	return nil, false
}

// verified looks for a record whose bytes are what they were.
func (s *Store) verified(kind recordKind, key [32]byte, bytes int64) (spot, bool) {
	p, ok := s.find(kind, key, bytes)
	if !ok || p.file != s.file { // what this process wrote is read back with the archive
		return p, ok
	}
	s.mu.Lock()
	looked := s.looked[p.at]
	s.mu.Unlock()
	if looked {
		return p, true
	}
	if _, ok = s.read(p); !ok {
		return spot{}, false
	}
	s.mu.Lock()
	s.looked[p.at] = true
	s.mu.Unlock()
	return p, true
}

// stream returns that of a content that was compressed before, or nil.
func (s *Store) stream(c Content, effort Effort) *Stream {
	if c.Bytes < leastKept {
		return nil
	}
	stream := &Stream{Content: c, Deflated: true, store: s, effort: effort}
	if p, ok := s.verified(effort.blocks(), c.SHA256, c.Bytes); ok && c.Bytes <= blockSize {
		stream.blocks = []block{{spot: p}}
		stream.Packed += int64(p.Packed)
		return stream
	}
	p, ok := s.find(effort.lists(), c.SHA256, c.Bytes)
	if !ok {
		return nil
	}
	list, ok := s.read(p)
	if !ok || len(list)%32 != 0 {
		return nil
	}
	if len(list) == 0 {
		return s.stored(c)
	}
	for at := 0; at < len(list); at += 32 {
		size := min(blockSize, c.Bytes-int64(at/32)*blockSize)
		b, ok := s.verified(effort.blocks(), [32]byte(list[at:]), size)
		if !ok {
			return nil
		}
		stream.blocks, stream.Packed = append(stream.blocks, block{spot: b}), stream.Packed+int64(b.Packed)
	}
	return stream
}

// note writes down of which blocks a content is.
func (s *Store) note(stream *Stream) error {
	if len(stream.blocks) == 1 && stream.Deflated || stream.Bytes < leastKept {
		return nil
	}
	var list []byte
	for _, b := range stream.blocks {
		list = append(list, b.Key[:]...)
	}
	_, err := s.keep(stream.effort.lists(), stream.SHA256, stream.Bytes, list)
	return err
}

// CopyTo writes the stream behind what a file holds, by the system's own means. Whether each byte is right is left to a
// Verifier that reads it back.
func (s *Stream) CopyTo(f io.Writer) (int64, error) {
	if !s.Deflated {
		return s.copyContent(f)
	}
	var total int64
	for _, b := range s.blocks {
		n, err := b.copyTo(f)
		total += n
		if err != nil {
			return total, err
		}
	}
	return total, nil
}

func (b *block) copyTo(f io.Writer) (int64, error) {
	if b.data != nil {
		n, err := f.Write(b.data)
		return int64(n), err
	}
	b.file.mu.Lock()
	defer b.file.mu.Unlock()
	if _, err := b.file.Seek(b.at, io.SeekStart); err != nil {
		return 0, err
	}
	return io.Copy(f, io.LimitReader(b.file.File, int64(b.Packed)))
}

func (s *Stream) copyContent(f io.Writer) (int64, error) {
	if s.Bytes == 0 {
		return 0, nil
	}
	r, err := s.Open()
	if err != nil {
		return 0, err
	}
	defer r.Close()
	n, err := io.Copy(f, io.LimitReader(r, s.Bytes+1))
	if err == nil && n != s.Bytes {
		err = &Changed{s.Name}
	}
	return n, err
}

// A Verifier is handed a stream's bytes and tells whether they are right: for each block those that unpacked to their content
// when they were compressed, and for a content that is stored its own.
type Verifier struct {
	stream *Stream
	block  int
	left   int64 // of the block
	sum    uint32
	wrong  bool
}

// Verifier returns one for the stream.
func (s *Stream) Verifier() *Verifier {
	v := &Verifier{stream: s}
	v.left, _ = v.expects()
	return v
}

// expects says how many bytes the part that is read now has, and what their sum must be.
func (v *Verifier) expects() (bytes int64, sum uint32) {
	switch s := v.stream; {
	case !s.Deflated && v.block == 0:
		return s.Bytes, s.CRC32
	case s.Deflated && v.block < len(s.blocks):
		return int64(s.blocks[v.block].Packed), s.blocks[v.block].Sum
	}
	return 0, 0
}

// Write takes the next bytes.
func (v *Verifier) Write(p []byte) {
	table := castagnoli
	if !v.stream.Deflated {
		table = crc32.IEEETable
	}
	for len(p) > 0 && !v.wrong {
		part := p[:min(int64(len(p)), v.left)]
		v.wrong = len(part) == 0
		v.sum = crc32.Update(v.sum, table, part)
		v.left -= int64(len(part))
		p = p[len(part):]
		if v.left == 0 {
			_, want := v.expects()
			v.wrong = v.wrong || v.sum != want
			v.block, v.sum = v.block+1, 0
			v.left, _ = v.expects()
		}
	}
}

// Same reports whether the whole stream was handed over, and right.
func (v *Verifier) Same() bool {
	parts := len(v.stream.blocks)
	if !v.stream.Deflated {
		parts = 1
	}
	return !v.wrong && (v.block == parts || v.stream.Packed == 0)
}

// Differs is the error for a stream that was not right when it was read back. What was kept of it is forgotten.
func (s *Stream) Differs() error {
	if !s.Deflated {
		return &Changed{s.Name}
	}
	if err := s.store.forget(); err != nil {
		return err
	}
	return fmt.Errorf("%s is damaged in the cache of what was compressed; the cache was cleared, so run the same command again", s.Name)
}

// forget empties the store, of which nothing can be trusted any more.
func (s *Store) forget() error {
	s.mu.Lock()
	defer s.mu.Unlock()
	clear(s.known)
	return s.file.Truncate(0)
}
