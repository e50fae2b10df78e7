package wasm

import (
	"errors"
	"io"
)

// reader reads a module piece by piece, so that a module of any size takes the same small memory.
type reader struct {
	r      io.Reader
	m      *Module
	used   map[Feature]bool
	buffer [32 << 10]byte
	at     int   // of the next byte in the buffer
	length int   // of what is in the buffer
	before int64 // how many bytes came before the buffer
}

func (d *reader) offset() int64 { return d.before + int64(d.at) }

// fill reads on; it is false at the end.
func (d *reader) fill() bool {
	d.before += int64(d.length)
	d.at, d.length = 0, 0
	for range 100 {
		n, err := d.r.Read(d.buffer[:])
		if n > 0 {
			d.length = n
			return true
		}
		if errors.Is(err, io.EOF) {
			return false
		}
		if err != nil {
			panic(giveUp{err})
		}
	}
	panic(giveUp{io.ErrNoProgress})
}

func (d *reader) byte() byte {
	if d.at == d.length && !d.fill() {
		d.broken("it ends too early")
	}
	b := d.buffer[d.at]
	d.at++
	return b
}

// sectionID is the first byte of the next section; it is false at the module's end.
func (d *reader) sectionID() (byte, bool) {
	if d.at == d.length && !d.fill() {
		return 0, false
	}
	return d.byte(), true
}

func (d *reader) skip(n int64) {
	for n > 0 {
		if d.at == d.length && !d.fill() {
			d.broken("it ends too early")
		}
		step := min(n, int64(d.length-d.at))
		d.at += int(step)
		n -= step
	}
}

// Numbers are in LEB128 (core specification, section 5.2.2).
func (d *reader) u32() uint32 { return uint32(d.unsigned(32)) }
func (d *reader) u64() uint64 { return d.unsigned(64) }

func (d *reader) unsigned(bits uint) uint64 {
	if d.at < d.length && d.buffer[d.at] < 0x80 && bits >= 7 { // most are that small
		d.at++
		return uint64(d.buffer[d.at-1])
	}
	var v uint64
	for shift := uint(0); ; shift += 7 {
		b := d.byte()
		if shift >= bits {
			d.broken("a number is too long")
		}
		v |= uint64(b&0x7f) << shift
		if b&0x80 == 0 {
			if bits < 64 && v>>bits != 0 {
				d.broken("a number is too large")
			}
			return v
		}
	}
}

func (d *reader) s32() { d.signed(5) }
func (d *reader) s64() { d.signed(10) }

// signed passes over a signed number of at most that many bytes.
func (d *reader) signed(most int) {
	if d.at < d.length && d.buffer[d.at] < 0x80 {
		d.at++
		return
	}
	for range most {
		if d.byte()&0x80 == 0 {
			return
		}
	}
	d.broken("a number is too long")
}

// name reads a name; one that would reach over end, where end is not negative, is broken.
func (d *reader) name(end int64) string {
	n := d.u32()
	if end >= 0 && d.offset()+int64(n) > end {
		d.broken("a name is longer than its section")
	}
	const most = 1000
	name := make([]byte, min(n, most))
	for i := range name {
		name[i] = d.byte()
	}
	d.skip(int64(n) - int64(len(name)))
	return string(name)
}
