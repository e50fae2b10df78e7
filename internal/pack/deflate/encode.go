package deflate

import "math/bits"

// An encoder compresses a piece of a content (RFC 1951): it looks for matches lazily, and begins a new block where the mix of bytes and
// matches changes.
type encoder struct {
	bitWriter
	chains
	tree          tree
	literal       code
	distance      code
	run           code
	literalCount  [literals]uint32
	distanceCount [distances]uint32
	list          []sequence

	manyLiterals, manyDistances, manyRuns int
	lengths                               []uint8
	runs                                  []uint16
	runCount                              [19]uint32

	mix mixture
}

// How hard matches are looked for.
const (
	searchDepth = 48
	niceLength  = 90
)

// Where matches cover less than one byte in so many of a stretch, they are looked for at some positions only in the next one, until
// there is a longer one: what is compressed already has none worth having. After more such stretches, fewer positions are noted, too;
// the steps have no common divisor, so that a longer match is met all the same.
const (
	stretch    = 2048
	worth      = 12
	skip       = 8
	barren     = 8 // stretches
	barrenStep = 15
	barrenNote = 4
)

// Bounds of a block.
const (
	leastBlock = 5000    // bytes of the content
	mostBlock  = 300_000 // likewise; a little more where a match ends it
	mostList   = 50_000  // sequences
	farThree   = 8192    // a match of three bytes from further away costs more than the bytes
)

func newEncoder() *encoder {
	return &encoder{literal: newCode(literals), distance: newCode(distances + 2), run: newCode(19), list: make([]sequence, 0, mostList+1)}
}

// compress returns data[begin:], deflated; what stands before begin is known to the reader. Only the last piece of a content ends its
// stream; the others end on a whole byte.
func (e *encoder) compress(data []byte, begin int, last bool) []byte {
	e.bitWriter = bitWriter{out: e.out[:0]}
	e.reset()
	for i := max(0, begin-windowSize); i < begin && i+4 <= len(data); i++ {
		e.insert(data, i)
	}
	if begin == len(data) {
		e.writeBlock(nil, nil, last)
	}
	for at := begin; at < len(data); {
		end := e.parse(data, at)
		e.writeBlock(data[at:end], e.list, last && end == len(data))
		at = end
	}
	e.finish(last)
	return e.out
}

// finish ends a piece on a whole byte: where it is not the last, with an empty stored block.
func (e *encoder) finish(last bool) {
	if !last {
		e.put(0, 3)
		e.align()
		e.out = append(e.out, 0, 0, 0xff, 0xff)
	}
	e.align()
}

// parse makes the sequences of one block, and returns where it ends.
func (e *encoder) parse(data []byte, begin int) int {
	clear(e.literalCount[:])
	clear(e.distanceCount[:])
	e.list = e.list[:0]
	e.mix = mixture{}
	soft := min(len(data), begin+mostBlock)
	if len(data)-soft < leastBlock {
		soft = len(data)
	}
	at, from := begin, begin // from is the first byte that is in no sequence yet
	least := e.leastLength(data, begin, soft)
	length, distance := 0, 0 // of the match at the position
	known := false
	gain := gains{look: at + stretch}
	for at < soft && len(e.list) < mostList {
		gain.reach(at)
		if gain.sparse > 0 && !known && at+barrenStep+4 <= soft {
			at = e.pass(data, at, gain.sparse)
		}
		if !known {
			length, distance = e.match(data, at, minMatch-1, searchDepth)
		}
		known = false
		if length < least || length == minMatch && distance > farThree {
			e.plain(data[at])
			at++
		} else {
			start := at
			if length < niceLength {
				at++
				if n, d := e.match(data, at, length-1, searchDepth/2); better(n, d, length, distance) {
					e.plain(data[start])
					length, distance, known = n, d, true
					continue
				}
			}
			e.found(start-from, length, distance)
			gain.cover(length)
			e.note(data, at+1, start+length)
			at = start + length
			from = at
		}
		if e.ends(data, begin, at) {
			break
		}
	}
	if known { // the match at the position was noted already, and is looked for again
		e.forget(data, at)
	}
	e.list = append(e.list, sequence{plain: uint32(at - from)})
	return at
}

// gains tell where matches are so rare that not every byte is worth a search.
type gains struct {
	look    int // where the stretch ends
	covered int // bytes of it that matches gained
	sparse  int // stretches in a row that gained nothing
}

func (g *gains) reach(at int) {
	if at < g.look {
		return
	}
	if g.sparse++; g.covered >= stretch/worth {
		g.sparse = 0
	}
	g.covered, g.look = 0, at+stretch
}

func (g *gains) cover(length int) {
	if g.covered += length; length >= skip {
		g.sparse = 0
	}
}

// better reports whether a match one byte later is worth more than the one before it.
func better(n, d, length, distance int) bool {
	return n >= length && 4*(n-length)+log2(distance)-log2(d) > 2
}

// note notes the positions inside of a match.
func (e *encoder) note(data []byte, from, to int) {
	for at := from; at < min(to, len(data)-3); at++ {
		e.insert(data, at)
	}
}

// ends reports whether another block is better from a position on.
func (e *encoder) ends(data []byte, begin, at int) bool {
	return e.mix.due() && at-begin >= leastBlock && len(data)-at >= leastBlock && e.mix.changed(at-begin)
}

// pass takes bytes as they are up to the next position where a match is looked for.
func (e *encoder) pass(data []byte, at, sparse int) int {
	if sparse < barren {
		for ; at&(skip-1) != 0; at++ {
			e.insertFour(data, at)
			e.plain(data[at])
		}
		return at
	}
	for i, b := range data[at : at+barrenStep-1] {
		if (at+i)&(barrenNote-1) == 0 {
			e.insertFour(data, at+i)
			e.mix.add(b, barrenNote)
		}
		e.literalCount[b]++
	}
	return at + barrenStep - 1
}

// forget takes back that a position was noted last.
func (e *encoder) forget(data []byte, at int) {
	if at+4 > len(data) {
		return
	}
	four := load32(data, at)
	e.four[hash4(four)] = e.next[at&(windowSize-1)]
	e.three[hash3(four)] = nowhere
}

// match looks for a match that is longer than best.
func (e *encoder) match(data []byte, at, best, depth int) (length, distance int) {
	most := min(maxMatch, len(data)-at)
	if most < 4 {
		return 0, 0
	}
	return e.longest(data, at, best, most, min(niceLength, most), depth)
}

func (e *encoder) plain(b byte) {
	e.literalCount[b]++
	e.mix.add(b, 1)
}

func (e *encoder) found(plain, length, distance int) {
	e.list = append(e.list, sequence{uint32(plain), uint16(length), uint16(distance)})
	e.literalCount[lengthSymbol[length]]++
	e.distanceCount[symbolOf(distance)]++
	if length >= 9 {
		e.mix.fresh[9]++
	} else {
		e.mix.fresh[8]++
	}
	e.mix.many++
}

// leastLength is the length from which matches are worth it: where few different bytes occur, each costs little.
func (e *encoder) leastLength(data []byte, begin, end int) int {
	var seen [256]bool
	kinds := 0
	for _, b := range data[begin:min(end, begin+4096)] {
		if !seen[b] {
			seen[b] = true
			kinds++
		}
	}
	switch {
	case kinds >= 80:
		return minMatch
	case kinds >= 32:
		return 4
	case kinds >= 8:
		return 5
	}
	return max(minMatch, 9-bits.Len(uint(kinds)))
}

// A mixture is what a block holds, by kinds of bytes and of matches.
type mixture struct {
	fresh [10]uint32 // since it was last looked at
	old   [10]uint32
	many  uint32 // fresh ones
	all   uint32 // old ones
}

// add counts a byte, times it.
func (m *mixture) add(b byte, times uint32) {
	m.fresh[(b>>5)&6|b&1] += times
	m.many += times
}

const dueAfter = 512

func (m *mixture) due() bool { return m.many >= dueAfter }

// changed reports whether what came last differs so much from what the block holds that a new block should begin.
func (m *mixture) changed(length int) bool {
	if m.all > 0 {
		total := uint64(0)
		for i := range m.fresh {
			expected, actual := uint64(m.old[i])*uint64(m.many), uint64(m.fresh[i])*uint64(m.all)
			total += max(expected, actual) - min(expected, actual)
		}
		items := m.all + m.many
		limit := uint64(m.many) * 200 / 512 * uint64(m.all)
		if length < 10_000 && items < 8192 {
			limit += limit * uint64(8192-items) / 8192
		}
		if total+uint64(length/4096)*uint64(m.all) >= limit {
			return true
		}
	}
	for i := range m.fresh {
		m.old[i] += m.fresh[i]
	}
	m.all += m.many
	m.fresh, m.many = [10]uint32{}, 0
	return false
}
