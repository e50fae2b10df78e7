package pack

import (
	"encoding/binary"
	"fmt"

	"havvel/internal/disk"
	"havvel/internal/pack/deflate"
)

// A zipper writes a zip (PKWARE APPNOTE 6.3.10) whose entries' sizes are all known before, so that it needs no data
// descriptors. Names are UTF-8, times and modes are fixed.
type zipper struct {
	f       disk.File
	at      int64
	entries []zipEntry
	start   int64 // of the directory
}

type zipEntry struct {
	name   string
	stream *deflate.Stream
	at     int64
}

const (
	date    = 1<<5 | 1 // 1 January 1980, section 4.4.6
	mode    = 0o100644
	version = 20 // that is needed to unpack, section 4.4.3
	large   = 45 // the same for sizes and places of 64 bits
	unix    = 3  // section 4.4.2
	utf8    = 1 << 11
	full    = 0xffffffff // the number is in the field for 64 bits
)

var little = binary.LittleEndian

// add writes one entry.
func (z *zipper) add(name string, s *deflate.Stream) error {
	if err := z.header(name, s); err != nil {
		return err
	}
	n, err := s.CopyTo(z.f)
	z.at += n
	if err == nil && n != s.Packed {
		err = fmt.Errorf("it has %d bytes where %d were announced", n, s.Packed)
	}
	return err
}

// header writes what stands before an entry's bytes, section 4.3.7.
func (z *zipper) header(name string, s *deflate.Stream) error {
	e := zipEntry{name, s, z.at}
	head := little.AppendUint32(nil, 0x04034b50)
	head = e.common(head)
	var extra []byte
	if e.wide() {
		extra = wideField(uint64(s.Bytes), uint64(s.Packed))
	}
	head = little.AppendUint16(little.AppendUint16(head, uint16(len(name))), uint16(len(extra)))
	z.entries = append(z.entries, e)
	return z.write(append(append(head, name...), extra...))
}

// layout says where each entry will be.
func layout(items []*Item, streams []*deflate.Stream) []zipEntry {
	entries := make([]zipEntry, len(items))
	var at int64
	for i, it := range items {
		entries[i] = zipEntry{it.Name, streams[i], at}
		at = entries[i].end()
	}
	return entries
}

// data is where the entry's bytes begin, behind its header, section 4.3.7.
func (e *zipEntry) data() int64 {
	n := e.at + 30 + int64(len(e.name))
	if e.wide() {
		n += int64(len(wideField(0, 0)))
	}
	return n
}

func (e *zipEntry) end() int64 { return e.data() + e.stream.Packed }

// wide reports whether a size needs 64 bits.
func (e *zipEntry) wide() bool { return e.stream.Bytes >= full || e.stream.Packed >= full }

// common is what stands in the entry's own header and in the directory: from the version to the sizes.
func (e *zipEntry) common(b []byte) []byte {
	needs, flags, method := uint16(version), uint16(0), uint16(0)
	if e.wide() || e.at >= full {
		needs = large
	}
	for i := range len(e.name) {
		if e.name[i] >= 0x80 {
			flags = utf8
		}
	}
	if e.stream.Deflated {
		method = 8
	}
	packed, bytes := uint32(e.stream.Packed), uint32(e.stream.Bytes)
	if e.wide() {
		packed, bytes = full, full
	}
	for _, v := range []uint16{needs, flags, method, 0, date} {
		b = little.AppendUint16(b, v)
	}
	for _, v := range []uint32{e.stream.CRC32, packed, bytes} {
		b = little.AppendUint32(b, v)
	}
	return b
}

// wideField holds numbers of 64 bits, section 4.5.3.
func wideField(numbers ...uint64) []byte {
	b := little.AppendUint16(little.AppendUint16(nil, 1), uint16(8*len(numbers)))
	for _, n := range numbers {
		b = little.AppendUint64(b, n)
	}
	return b
}

// close writes the directory, sections 4.3.12 to 4.3.16.
func (z *zipper) close() error {
	start := z.at
	z.start = start
	var b []byte
	for i := range z.entries {
		b = z.entries[i].directory(b)
		if len(b) > 1<<20 {
			if err := z.write(b); err != nil {
				return err
			}
			b = b[:0]
		}
	}
	size := z.at + int64(len(b)) - start
	count := len(z.entries)
	if end := start + size; count >= 0xffff || size >= full || start >= full {
		b = little.AppendUint64(little.AppendUint32(b, 0x06064b50), 44)
		b = little.AppendUint16(little.AppendUint16(b, unix<<8|large), large)
		b = little.AppendUint64(b, 0) // this disk, and the one on which the directory starts
		for _, n := range []int64{int64(count), int64(count), size, start} {
			b = little.AppendUint64(b, uint64(n))
		}
		b = little.AppendUint64(little.AppendUint32(little.AppendUint32(b, 0x07064b50), 0), uint64(end))
		b = little.AppendUint32(b, 1)
	}
	b = little.AppendUint32(little.AppendUint32(b, 0x06054b50), 0)
	b = little.AppendUint16(little.AppendUint16(b, uint16(min(count, 0xffff))), uint16(min(count, 0xffff)))
	b = little.AppendUint32(little.AppendUint32(b, uint32(min(size, full))), uint32(min(start, full)))
	return z.write(little.AppendUint16(b, 0))
}

// directory adds an entry of the directory, section 4.3.12.
func (e *zipEntry) directory(b []byte) []byte {
	var numbers []uint64
	if e.wide() {
		numbers = []uint64{uint64(e.stream.Bytes), uint64(e.stream.Packed)}
	}
	at := uint32(min(e.at, full))
	if at == full {
		numbers = append(numbers, uint64(e.at))
	}
	var extra []byte
	if len(numbers) > 0 {
		extra = wideField(numbers...)
	}
	made := uint16(unix<<8 | version)
	if len(numbers) > 0 {
		made = unix<<8 | large
	}
	b = little.AppendUint16(little.AppendUint32(b, 0x02014b50), made)
	b = e.common(b)
	for _, v := range []uint16{uint16(len(e.name)), uint16(len(extra)), 0, 0, 0} {
		b = little.AppendUint16(b, v)
	}
	b = little.AppendUint32(little.AppendUint32(b, mode<<16), at)
	return append(append(b, e.name...), extra...)
}

func (z *zipper) write(b []byte) error {
	n, err := z.f.Write(b)
	z.at += int64(n)
	return err
}
