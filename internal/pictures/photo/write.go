package photo

import (
	"bytes"
	"encoding/binary"
)

// Encode writes a picture at a quality from 1 to 100.
func (p *Picture) Encode(quality float64) []byte {
	var b bytes.Buffer
	b.WriteString("\xff\xd8\xff\xe0\x00\x10JFIF\x00\x01\x01\x00\x00\x01\x00\x01\x00\x00")
	tables := [2][64]int{table(0, quality), table(1, quality)}
	for i, t := range tables {
		data := []byte{byte(i)}
		for _, k := range zigzag {
			data = append(data, byte(t[k]))
		}
		segment(&b, 0xdb, data)
	}
	frame := []byte{8, byte(p.h >> 8), byte(p.h), byte(p.w >> 8), byte(p.w), 3}
	var values [3][]int16
	for i := range p.parts {
		values[i] = p.parts[i].quantised(tables[min(1, i)])
		frame = append(frame, byte(i+1), byte(p.parts[i].sampling*0x11), byte(min(1, i)))
	}
	segment(&b, 0xc2, frame)
	for _, s := range scans {
		p.scan(&b, values, s)
	}
	b.WriteString("\xff\xd9")
	return b.Bytes()
}

func segment(b *bytes.Buffer, marker byte, data []byte) {
	b.Write([]byte{0xff, marker})
	b.Write(binary.BigEndian.AppendUint16(nil, uint16(len(data)+2)))
	b.Write(data)
}

func (p *Picture) scan(b *bytes.Buffer, values [3][]int16, s scan) {
	c := &coder{class: uint8(min(1, s.parts[0]))}
	switch {
	case s.first == 0:
		c.steady(p, values, s)
	case s.high == 0:
		c.varying(&p.parts[s.parts[0]], values[s.parts[0]], s)
	default:
		c.refined(&p.parts[s.parts[0]], values[s.parts[0]], s)
	}
	var counts [2][257]int
	used := [2]bool{}
	for _, x := range c.list {
		if x.class != plainBits {
			counts[x.class][x.symbol]++
			used[x.class] = true
		}
	}
	var books [2]book
	for class := range books {
		if !used[class] {
			continue
		}
		books[class] = newBook(counts[class])
		kind := byte(0x10)
		if s.first == 0 {
			kind = 0
		}
		segment(b, 0xc4, books[class].written(kind|byte(class)))
	}
	head := []byte{byte(len(s.parts))}
	for _, i := range s.parts {
		class := byte(min(1, i))
		if s.first == 0 {
			class <<= 4
		}
		head = append(head, byte(i+1), class)
	}
	segment(b, 0xda, append(head, byte(s.first), byte(s.last), byte(s.high<<4|s.low)))
	w := bitWriter{to: b}
	for _, x := range c.list {
		if x.class != plainBits {
			k := books[x.class].keys[x.symbol]
			w.write(k.bits, k.size)
		}
		w.write(uint32(x.extra), x.size)
	}
	w.end()
}

// bitWriter writes bits, with a zero byte behind each of all ones (T.81, F.1.2.3).
type bitWriter struct {
	to   *bytes.Buffer
	bits uint64
	size uint8
}

func (w *bitWriter) write(bits uint32, size uint8) {
	w.bits, w.size = w.bits<<size|uint64(bits), w.size+size
	for w.size >= 8 {
		v := byte(w.bits >> (w.size - 8))
		w.to.WriteByte(v)
		if v == 0xff {
			w.to.WriteByte(0)
		}
		w.size -= 8
	}
}

func (w *bitWriter) end() {
	if w.size > 0 {
		w.write(1<<(8-w.size)-1, 8-w.size)
	}
}

// A book has the bits of each symbol.
type book struct {
	sizes   [17]int // how many have so many bits
	symbols []byte  // the shortest first
	keys    [256]struct {
		bits uint32
		size uint8
	}
}

// newBook makes the shortest codes of up to 16 bits for symbols that come so often (T.81, K.2). No code is all ones.
func newBook(counts [257]int) (b book) {
	counts[256] = 1 // takes the code of all ones
	size := lengths(counts)
	var many [258]int
	for _, n := range size {
		if n > 0 {
			many[n]++
		}
	}
	shorten(&many)
	copy(b.sizes[:], many[:17])
	for n := 1; n < len(many); n++ {
		for s := range 256 {
			if size[s] == n {
				b.symbols = append(b.symbols, byte(s))
			}
		}
	}
	bits, at := uint32(0), 0
	for n := 1; n <= 16; n++ {
		for range b.sizes[n] {
			b.keys[b.symbols[at]].bits, b.keys[b.symbols[at]].size = bits, uint8(n)
			bits++
			at++
		}
		bits <<= 1
	}
	return b
}

// lengths are those of the shortest codes, however long (T.81, figure K.1).
func lengths(counts [257]int) (size [257]int) {
	var next [257]int
	for i := range next {
		next[i] = -1
	}
	for {
		least, other := rarest(counts)
		if other < 0 {
			return size
		}
		counts[least] += counts[other]
		counts[other] = 0
		at := least
		for size[at]++; next[at] >= 0; size[at]++ {
			at = next[at]
		}
		next[at] = other
		for at = other; at >= 0; at = next[at] {
			size[at]++
		}
	}
}

// rarest are the two symbols that come least often, the later of equals first; -1 where there is none.
func rarest(counts [257]int) (least, other int) {
	least, other = -1, -1
	for i, n := range counts {
		switch {
		case n == 0:
		case least < 0 || n <= counts[least]:
			least, other = i, least
		case other < 0 || n <= counts[other]:
			other = i
		}
	}
	return least, other
}

// shorten makes codes of more than 16 bits shorter, and takes the longest one away (T.81, figure K.3).
func shorten(many *[258]int) {
	for n := len(many) - 1; n > 16; n-- {
		for many[n] > 0 {
			short := n - 2
			for many[short] == 0 {
				short--
			}
			many[n] -= 2
			many[n-1]++
			many[short+1] += 2
			many[short]--
		}
	}
	longest := 16
	for many[longest] == 0 {
		longest--
	}
	many[longest]--
}

func (b *book) written(id byte) []byte {
	data := []byte{id}
	for _, n := range b.sizes[1:] {
		data = append(data, byte(n))
	}
	return append(data, b.symbols...)
}
