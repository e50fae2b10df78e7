package deflate

import "slices"

// A splitter looks for the places where blocks should begin: where what two blocks take, each with a code of its own, is less than what
// one does.
type splitter struct {
	t     *thorough
	items []match
	// counts of symbols up to each step of items
	literals  [][literals]uint32
	distances [][distances]uint32
	at        []int // positions in the content, by step
	cuts      []int // steps
}

const (
	itemsPerStep = 64
	tries        = 9 // places that are tried at a time
	leastSteps   = 2 // of a block
)

// split returns where the blocks of items should end.
func (t *thorough) split(items []match) []int {
	s := &splitter{t: t, items: items}
	var l [literals]uint32
	var d [distances]uint32
	at := t.begin
	for i, m := range items {
		if i%itemsPerStep == 0 {
			s.literals, s.distances, s.at = append(s.literals, l), append(s.distances, d), append(s.at, at)
		}
		if m.length == 1 {
			l[t.data[at]]++
		} else {
			l[lengthSymbol[m.length]]++
			d[symbolOf(int(m.distance))]++
		}
		at += int(m.length)
	}
	s.literals, s.distances, s.at = append(s.literals, l), append(s.distances, d), append(s.at, at)
	s.between(0, len(s.at)-1)
	ends := make([]int, 0, len(s.cuts)+1)
	slices.Sort(s.cuts)
	for _, c := range s.cuts {
		ends = append(ends, s.at[c])
	}
	return append(ends, at)
}

// bits is how many a block takes from one step to another.
func (s *splitter) bits(from, to int) int {
	t := s.t
	for i := range t.literalCount {
		t.literalCount[i] = s.literals[to][i] - s.literals[from][i]
	}
	for i := range t.distanceCount {
		t.distanceCount[i] = s.distances[to][i] - s.distances[from][i]
	}
	return t.bits()
}

// between cuts what lies between two steps where that gains something, and goes on with both parts.
func (s *splitter) between(from, to int) {
	if to-from < 2*leastSteps || len(s.cuts) >= mostBlocks {
		return
	}
	whole := s.bits(from, to)
	cut, bits := s.cheapest(from, to)
	if bits >= whole {
		return
	}
	s.cuts = append(s.cuts, cut)
	s.between(from, cut)
	s.between(cut, to)
}

// cheapest is the best place for one cut: it tries some, and then nearer to the best of them.
func (s *splitter) cheapest(from, to int) (cut, bits int) {
	low, high := from+leastSteps, to-leastSteps
	cut, bits = -1, int(^uint(0)>>1)
	for {
		stride := max(1, (high-low)/(tries+1))
		for at := low; at <= high; at += stride {
			if n := s.bits(from, at) + s.bits(at, to); n < bits {
				cut, bits = at, n
			}
		}
		if stride == 1 {
			return cut, bits
		}
		low, high = max(low, cut-stride), min(high, cut+stride)
	}
}
