package slim

import (
	"cmp"
	"encoding/binary"
	"slices"
)

// A form is one way to write the rows of a picture: its header's bits and colour type, the chunks before the rows, and the rows without
// filters.
type form struct {
	bits, kind byte
	palette    []byte // PLTE, or nil
	alpha      []byte // tRNS, or nil
	rows       []byte
	row, step  int
}

// The colour types of section 11.2.1.
const (
	greyKind      = 0
	colourKind    = 2
	paletteKind   = 3
	greyAlphaKind = 4
	alphaKind     = 6
)

// reduced lists smaller forms of rows of 8 bits a sample in colour, with transparency or without, that show the very same: grey where
// all is grey, opaque where all is, and a palette where there are few colours.
func reduced(rows []byte, row, width int, kind byte) []form {
	samples := map[byte]int{colourKind: 3, alphaKind: 4}[kind]
	if samples == 0 {
		return nil
	}
	grey, opaque := true, true
	index := map[uint32]byte{}
	var order []uint32
	for at := 0; at < len(rows); at += row + 1 {
		for line := rows[at+1 : at+1+row]; len(line) > 0; line = line[samples:] {
			c := colourOf(line, samples)
			grey = grey && line[0] == line[1] && line[1] == line[2]
			opaque = opaque && c>>24 == 255
			if _, ok := index[c]; !ok && len(order) <= 256 {
				index[c] = byte(len(order))
				order = append(order, c)
			}
		}
	}
	var list []form
	if len(order) <= 256 {
		list = append(list, indexed(rows, row, width, samples, order))
	}
	switch {
	case grey && opaque:
		return append(list, with(rows, row, width, samples, greyKind, 0))
	case grey:
		return append(list, with(rows, row, width, samples, greyAlphaKind, 0, 3))
	case opaque && kind != colourKind:
		return append(list, with(rows, row, width, samples, colourKind, 0, 1, 2))
	}
	return list
}

// with are rows of another kind, which has some of the samples.
func with(rows []byte, row, width, samples int, kind byte, keep ...int) form {
	f := form{bits: 8, kind: kind, row: width * len(keep), step: len(keep)}
	for at := 0; at < len(rows); at += row + 1 {
		f.rows = append(f.rows, 0)
		for line := rows[at+1 : at+1+row]; len(line) > 0; line = line[samples:] {
			for _, k := range keep {
				f.rows = append(f.rows, line[k])
			}
		}
	}
	return f
}

// light is how bright a colour is, from 0 to 255,000.
func light(c uint32) int { return 299*int(c&0xff) + 587*int(c>>8&0xff) + 114*int(c>>16&0xff) }

func colourOf(line []byte, samples int) uint32 {
	if samples == 4 {
		return binary.LittleEndian.Uint32(line)
	}
	return uint32(line[0]) | uint32(line[1])<<8 | uint32(line[2])<<16 | 255<<24
}

// indexed writes rows by a palette. Colours that aren't opaque come first, since only these need an entry for it.
func indexed(rows []byte, row, width, samples int, colours []uint32) form {
	slices.SortFunc(colours, func(a, b uint32) int {
		if x, y := a>>24 == 255, b>>24 == 255; x != y {
			if y {
				return -1
			}
			return 1
		}
		return cmp.Or(light(a)-light(b), int(int64(a&0xffffff)-int64(b&0xffffff))) // so that neighbours have numbers that are near
	})
	f := form{bits: 8, kind: paletteKind, step: 1}
	for bits := byte(1); bits < 8; bits *= 2 {
		if len(colours) <= 1<<bits {
			f.bits = bits
			break
		}
	}
	number := map[uint32]byte{}
	for i, c := range colours {
		number[c] = byte(i)
		f.palette = append(f.palette, byte(c), byte(c>>8), byte(c>>16))
		if c>>24 != 255 {
			f.alpha = append(f.alpha, byte(c>>24))
		}
	}
	f.row = (width*int(f.bits) + 7) / 8
	for at := 0; at < len(rows); at += row + 1 {
		line := make([]byte, 1+f.row)
		for x := range width {
			shift := 8 - int(f.bits) - x*int(f.bits)%8
			line[1+x*int(f.bits)/8] |= number[colourOf(rows[at+1+x*samples:], samples)] << shift
		}
		f.rows = append(f.rows, line...)
	}
	return f
}
