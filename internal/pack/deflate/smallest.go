package deflate

import (
	"math"
	"slices"
)

// A thorough encoder finds the sequences that take the fewest bits: it lists all matches, takes the cheapest way through them by what
// symbols cost on the way before it, until that gains nothing, and looks for the places where blocks should begin.
type thorough struct {
	*encoder
	trees   trees
	data    []byte
	begin   int
	from    []uint32 // where the matches of each position begin; positions count from begin
	matches []match

	cost   []uint32 // from each position of a block to its end, in parts of a bit
	step   []match  // that the cheapest way takes there
	prices prices
}

// A match has a length and a distance; one of length 1 is a byte as it is.
type match struct{ length, distance uint16 }

// prices are what symbols cost, in parts of a bit.
type prices struct {
	literal  [256]uint32
	length   [maxMatch + 1]uint32
	distance [distances]uint32
}

const (
	partsOfBit  = 64
	mostRounds  = 15
	mostMatches = 8 << 20 // that are listed of one piece
	nearLengths = 40      // up to here all lengths of a match are tried, and a few at its end
	lastLengths = 6
	mostBlocks  = 120 // of one piece
)

func newThorough() *thorough { return &thorough{encoder: newEncoder()} }

// compress does what that of the encoder does, in more time.
func (t *thorough) compress(data []byte, begin int, last bool) []byte {
	quick := slices.Clone(t.encoder.compress(data, begin, last))
	t.data, t.begin = data, begin
	if len(data)-begin < 16 || !t.listed() {
		return quick
	}
	items := t.lazy()
	ends := t.split(items)
	items = t.best(items, ends)
	if again := t.split(items); !slices.Equal(again, ends) { // better items show better places
		if other := t.best(items, again); t.total(other, again) < t.total(items, ends) {
			items, ends = other, again
		}
	}
	t.bitWriter = bitWriter{out: t.out[:0]}
	at := begin
	for i, end := range ends {
		n := t.count(items, at, end)
		t.writeBlock(data[at:end], t.list, last && i == len(ends)-1)
		items, at = items[n:], end
	}
	t.finish(last)
	if len(t.out) >= len(quick) {
		return quick
	}
	return t.out
}

// listed lists all matches; it is false where there are too many.
func (t *thorough) listed() bool {
	t.trees.reset()
	t.from, t.matches = t.from[:0], t.matches[:0]
	for at := max(0, t.begin-windowSize); at < len(t.data); at++ {
		list := &t.matches
		if at < t.begin {
			list = nil
		} else {
			t.from = append(t.from, uint32(len(t.matches)))
		}
		if most := min(maxMatch, len(t.data)-at); most >= 5 { // one byte more than the hash
			t.trees.insert(t.data, at, most, list)
		}
		if len(t.matches) > mostMatches {
			return false
		}
	}
	t.from = append(t.from, uint32(len(t.matches)))
	return true
}

// at returns the matches of a position.
func (t *thorough) at(position int) []match {
	i := position - t.begin
	return t.matches[t.from[i]:t.from[i+1]]
}

// lazy are items as the quick encoder finds them, for the whole piece.
func (t *thorough) lazy() []match {
	t.reset()
	for i := max(0, t.begin-windowSize); i < t.begin && i+4 <= len(t.data); i++ {
		t.insert(t.data, i)
	}
	var items []match
	for at := t.begin; at < len(t.data); {
		end := t.parse(t.data, at)
		for _, s := range t.list {
			for range s.plain {
				items = append(items, match{1, 0})
			}
			if s.length > 0 {
				items = append(items, match{s.length, s.distance})
			}
		}
		at = end
	}
	return items
}

// count counts the symbols of a block's items and makes its sequences; it returns how many items there are from at to end.
func (t *thorough) count(items []match, at, end int) int {
	clear(t.literalCount[:])
	clear(t.distanceCount[:])
	t.list = t.list[:0]
	plain := uint32(0)
	for i, m := range items {
		if at >= end {
			items = items[:i]
			break
		}
		if m.length == 1 {
			t.literalCount[t.data[at]]++
			plain++
			at++
			continue
		}
		t.literalCount[lengthSymbol[m.length]]++
		t.distanceCount[symbolOf(int(m.distance))]++
		t.list = append(t.list, sequence{plain, m.length, m.distance})
		plain = 0
		at += int(m.length)
	}
	t.list = append(t.list, sequence{plain: plain})
	return len(items)
}

// bits is how many the block takes whose symbols were counted.
func (t *thorough) bits() int {
	t.literalCount[blockEnd] = 1
	t.tree.make(&t.literal, t.literalCount[:], 15)
	t.tree.make(&t.distance, t.distanceCount[:], 15)
	total := 3 + t.header()
	for s, n := range t.literalCount {
		total += int(n) * (int(t.literal.lengths[s]) + int(lengthExtra[s]))
	}
	for s, n := range t.distanceCount {
		total += int(n) * int(t.distance.lengths[s]+distanceExtra[s])
	}
	return total
}

// total is how many bits all blocks take.
func (t *thorough) total(items []match, ends []int) int {
	at, total := t.begin, 0
	for _, end := range ends {
		n := t.count(items, at, end)
		total += t.bits()
		items, at = items[n:], end
	}
	return total
}

// best makes the items of all blocks.
func (t *thorough) best(items []match, ends []int) []match {
	var out []match
	at := t.begin
	for _, end := range ends {
		n := t.count(items, at, end)
		out = append(out, t.block(items[:n], at, end)...)
		items, at = items[n:], end
	}
	return out
}

// block makes the items of one block better, round by round.
func (t *thorough) block(first []match, begin, end int) []match {
	best, least, worse := first, t.bits(), 0
	items := first
	for range mostRounds {
		t.price()
		items = t.cheapest(begin, end)
		t.count(items, begin, end)
		if n := t.bits(); n < least {
			best, least, worse = items, n, 0
		} else if worse++; worse == 2 {
			break
		}
	}
	t.count(best, begin, end)
	return best
}

// price works out what symbols cost, from how often they were counted.
func (t *thorough) price() {
	price := func(counts []uint32, s int, sum float64) uint32 {
		n := max(float64(counts[s]), 0.5)
		return uint32(math.Log2(sum/n)*partsOfBit + 0.5)
	}
	sum := func(counts []uint32) (sum float64) {
		for _, n := range counts {
			sum += float64(n)
		}
		return max(sum, 1)
	}
	all := sum(t.literalCount[:])
	for b := range t.prices.literal {
		t.prices.literal[b] = price(t.literalCount[:], b, all)
	}
	for n := minMatch; n <= maxMatch; n++ {
		s := int(lengthSymbol[n])
		t.prices.length[n] = price(t.literalCount[:], s, all) + uint32(lengthExtra[s])*partsOfBit
	}
	all = sum(t.distanceCount[:])
	for s := range t.prices.distance {
		t.prices.distance[s] = price(t.distanceCount[:], s, all) + uint32(distanceExtra[s])*partsOfBit
	}
}

// cheapest is the way through the matches of a block that costs least.
func (t *thorough) cheapest(begin, end int) []match {
	n := end - begin
	t.cost, t.step = slices.Grow(t.cost[:0], n+1)[:n+1], slices.Grow(t.step[:0], n+1)[:n+1]
	t.cost[n] = 0
	for i := n - 1; i >= 0; i-- {
		least, step := t.cost[i+1]+t.prices.literal[t.data[begin+i]], match{1, 0}
		length := minMatch
		for _, m := range t.at(begin + i) {
			most := min(int(m.length), n-i)
			distance := t.prices.distance[symbolOf(int(m.distance))]
			for ; length <= most; length++ {
				if length > nearLengths && length < most-lastLengths {
					length = most - lastLengths
				}
				if c := t.cost[i+length] + t.prices.length[length] + distance; c < least {
					least, step = c, match{uint16(length), m.distance}
				}
			}
		}
		t.cost[i], t.step[i] = least, step
	}
	items := make([]match, 0, n/4)
	for i := 0; i < n; i += int(t.step[i].length) {
		items = append(items, t.step[i])
	}
	return items
}
