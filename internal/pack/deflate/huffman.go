package deflate

import (
	"math/bits"
	"slices"
)

// A code is a Huffman code: for each symbol its length in bits, and the bits as they go out, the first one lowest.
type code struct {
	lengths []uint8
	bits    []uint16
}

// A tree works out codes. Its space is used again.
type tree struct {
	leaves []uint64 // frequency and symbol of each that occurs
	weight []uint32
	parent []uint16
	depth  []uint8
}

// make works out a code for symbols of these frequencies in which none is longer than limit (RFC 1951, section 3.2.2).
func (t *tree) make(c *code, frequency []uint32, limit int) {
	clear(c.lengths)
	t.leaves = t.leaves[:0]
	for s, f := range frequency {
		if f > 0 {
			t.leaves = append(t.leaves, uint64(f)<<16|uint64(s))
		}
	}
	switch len(t.leaves) {
	case 0: // some readers want two codes
		c.lengths[0], c.lengths[1] = 1, 1
		c.assign()
		return
	case 1:
		c.lengths[uint16(t.leaves[0])] = 1
		if uint16(t.leaves[0]) == 0 {
			c.lengths[1] = 1
		} else {
			c.lengths[0] = 1
		}
		c.assign()
		return
	}
	slices.Sort(t.leaves)
	counts := t.counts(limit)
	// The rarest symbols get the longest codes.
	i := 0
	for n := limit; n > 0; n-- {
		for range counts[n] {
			c.lengths[uint16(t.leaves[i])] = uint8(n)
			i++
		}
	}
	c.assign()
}

// counts says how many symbols get a code of each length.
func (t *tree) counts(limit int) (counts [16]int) {
	n := len(t.leaves)
	t.weight = slices.Grow(t.weight[:0], 2*n)[:2*n-1]
	t.parent = slices.Grow(t.parent[:0], 2*n)[:2*n-1]
	t.depth = slices.Grow(t.depth[:0], 2*n)[:2*n-1]
	for i, l := range t.leaves {
		t.weight[i] = uint32(l >> 16)
	}
	leaf, inner := 0, n
	for made := n; made < 2*n-1; made++ {
		var sum uint32
		for range 2 {
			if leaf < n && (inner >= made || t.weight[leaf] <= t.weight[inner]) {
				sum += t.weight[leaf]
				t.parent[leaf] = uint16(made)
				leaf++
			} else {
				sum += t.weight[inner]
				t.parent[inner] = uint16(made)
				inner++
			}
		}
		t.weight[made] = sum
	}
	t.depth[2*n-2] = 0
	over := 0 // of the space of codes that is taken, in units of the longest
	for i := 2*n - 3; i >= 0; i-- {
		t.depth[i] = t.depth[t.parent[i]] + 1
		if i < n {
			counts[min(int(t.depth[i]), limit)]++
		}
	}
	for d := 1; d <= limit; d++ {
		over += counts[d] << (limit - d)
	}
	// Codes that were cut off take too much: a shorter one is made longer for each that is too much.
	for over > 1<<limit {
		d := limit - 1
		for counts[d] == 0 {
			d--
		}
		counts[d]--
		counts[d+1] += 2
		counts[limit]--
		over--
	}
	return counts
}

// assign gives the codes of each length in the order of their symbols (RFC 1951, section 3.2.2).
func (c *code) assign() {
	var counts, next [17]int
	for _, n := range c.lengths {
		counts[n]++
	}
	counts[0] = 0
	for n := 1; n <= 15; n++ {
		next[n+1] = (next[n] + counts[n]) << 1
	}
	for s, n := range c.lengths {
		if n > 0 {
			c.bits[s] = bits.Reverse16(uint16(next[n])) >> (16 - n)
			next[n]++
		}
	}
}

func newCode(symbols int) code { return code{make([]uint8, symbols), make([]uint16, symbols)} }
