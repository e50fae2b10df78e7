package deflate

import (
	"encoding/binary"
	"math/bits"
)

const (
	windowSize = 1 << 15 // RFC 1951, section 3.2.5: how far back a match may begin
	minMatch   = 3
	maxMatch   = 258

	hash3Bits = 15
	hash4Bits = 16
	nowhere   = -windowSize - 1 // a position that is out of reach
)

// chains find earlier places of what stands at a position: the last one by three bytes, and all in the window by four.
type chains struct {
	three [1 << hash3Bits]int32
	four  [1 << hash4Bits]int32
	next  [windowSize]int32 // the place before, by position in the window
}

func (c *chains) reset() {
	for i := range c.three {
		c.three[i] = nowhere
	}
	for i := range c.four {
		c.four[i] = nowhere
	}
}

func load32(data []byte, at int) uint32 { return binary.LittleEndian.Uint32(data[at:]) }
func load64(data []byte, at int) uint64 { return binary.LittleEndian.Uint64(data[at:]) }

func hash3(four uint32) uint32 { return (four << 8) * 0x9e3779b1 >> (32 - hash3Bits) }
func hash4(four uint32) uint32 { return four * 0x9e3779b1 >> (32 - hash4Bits) }

// insert notes the position at; four bytes and more must follow it.
func (c *chains) insert(data []byte, at int) {
	four := load32(data, at)
	c.three[hash3(four)] = int32(at)
	c.insertFour(data, at)
}

// insertFour notes the position for matches of four bytes and more alone.
func (c *chains) insertFour(data []byte, at int) {
	h := hash4(load32(data, at))
	c.next[at&(windowSize-1)] = c.four[h]
	c.four[h] = int32(at)
}

// longest notes the position at, and returns the longest match there that is longer than best, or best; depth bounds how many
// places are looked at, and a match of nice bytes is good enough. Four bytes and more must follow, and most of them may match.
func (c *chains) longest(data []byte, at, best, most, nice, depth int) (length, distance int) {
	four := load32(data, at)
	h3, h4 := hash3(four), hash4(four)
	near, place := int(c.three[h3]), int(c.four[h4])
	c.three[h3] = int32(at)
	c.next[at&(windowSize-1)] = int32(place)
	c.four[h4] = int32(at)
	oldest := max(at-windowSize, -1)
	if best < minMatch && near > oldest && (load32(data, near)^four)<<8 == 0 {
		best, distance = minMatch, at-near
	}
	for best < 4 { // until four bytes are the same
		if place <= oldest || depth == 0 {
			return best, distance
		}
		if load32(data, place) == four {
			best, distance = extended(data, place, at, 4, most), at-place
		}
		place = int(c.next[place&(windowSize-1)])
		depth--
	}
	if best >= nice {
		return best, distance
	}
	tail := load32(data, at+best-3) // a longer match has the same last bytes here
	for ; place > oldest && depth > 0; depth-- {
		if load32(data, place+best-3) == tail && load32(data, place) == four {
			if n := extended(data, place, at, 4, most); n > best {
				best, distance = n, at-place
				if n >= nice {
					break
				}
				tail = load32(data, at+best-3)
			}
		}
		place = int(c.next[place&(windowSize-1)])
	}
	return best, distance
}

// extended is how many bytes at two places are the same, of which the first n are known to be.
func extended(data []byte, a, b, n, most int) int {
	for n+8 <= most {
		if x := load64(data, a+n) ^ load64(data, b+n); x != 0 {
			return n + bits.TrailingZeros64(x)>>3
		}
		n += 8
	}
	for n < most && data[a+n] == data[b+n] {
		n++
	}
	return n
}
