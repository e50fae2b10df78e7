package deflate

import (
	"encoding/binary"
	"math/bits"
)

const (
	literals  = 288 // symbols of the first code: bytes, the end of a block, lengths (RFC 1951, section 3.2.5)
	distances = 30
	blockEnd  = 256
)

// A sequence is some bytes as they are, and a match behind them; one without a length is the last.
type sequence struct {
	plain    uint32
	length   uint16
	distance uint16
}

// Tables of RFC 1951, section 3.2.5, by length and by distance.
var (
	lengthSymbol   [maxMatch + 1]uint16
	lengthExtra    [literals]uint8
	lengthBase     [literals]uint16
	distanceExtra  [distances]uint8
	distanceBase   [distances]uint16
	distanceSymbol [512]uint8 // of those up to 256, and of those above by 128
	fixedLiterals  = newCode(literals)
	fixedDistances = newCode(32)
)

func init() {
	at := 3
	for s := 257; s < 285; s++ {
		extra := max(0, (s-261)/4)
		lengthExtra[s], lengthBase[s] = uint8(extra), uint16(at)
		for range 1 << extra {
			if at <= maxMatch {
				lengthSymbol[at] = uint16(s)
			}
			at++
		}
	}
	lengthSymbol[maxMatch], lengthBase[285] = 285, maxMatch
	at = 1
	for s := range distances {
		extra := max(0, s/2-1)
		distanceExtra[s], distanceBase[s] = uint8(extra), uint16(at)
		for range 1 << extra {
			if at <= 256 {
				distanceSymbol[at-1] = uint8(s)
			} else {
				distanceSymbol[256+(at-1)>>7] = uint8(s)
			}
			at++
		}
	}
	for s := range fixedLiterals.lengths {
		fixedLiterals.lengths[s] = 8
		if s >= 144 && s < 256 {
			fixedLiterals.lengths[s] = 9
		} else if s >= 256 && s < 280 {
			fixedLiterals.lengths[s] = 7
		}
	}
	for s := range fixedDistances.lengths {
		fixedDistances.lengths[s] = 5
	}
	fixedLiterals.assign()
	fixedDistances.assign()
}

// symbolOf is the symbol of a distance.
func symbolOf(distance int) uint8 {
	if distance <= 256 {
		return distanceSymbol[distance-1]
	}
	return distanceSymbol[256+(distance-1)>>7]
}

// A bitWriter writes bits, the lowest first.
type bitWriter struct {
	out  []byte
	held uint64
	n    uint
}

// put adds the n lowest bits of v, of which there may be 48 at a time.
func (w *bitWriter) put(v uint64, n uint) {
	w.held |= v << w.n
	w.n += n
	if w.n >= 16 {
		w.out = binary.LittleEndian.AppendUint64(w.out, w.held)
		w.out = w.out[:len(w.out)-8+int(w.n>>3)]
		w.held >>= w.n &^ 7
		w.n &= 7
	}
}

// align fills the last byte up.
func (w *bitWriter) align() {
	for w.n > 0 {
		w.out = append(w.out, byte(w.held))
		w.held >>= 8
		w.n -= min(w.n, 8)
	}
}

// writeBlock writes sequences of data as the cheapest kind of block. The frequencies are those of their symbols, without the end of the
// block.
func (e *encoder) writeBlock(data []byte, list []sequence, last bool) {
	e.literalCount[blockEnd] = 1
	e.tree.make(&e.literal, e.literalCount[:], 15)
	e.tree.make(&e.distance, e.distanceCount[:], 15)
	header := e.header()
	dynamic, fixed := header, 0
	for s, n := range e.literalCount {
		extra := int(lengthExtra[s])
		dynamic += int(n) * (int(e.literal.lengths[s]) + extra)
		fixed += int(n) * (int(fixedLiterals.lengths[s]) + extra)
	}
	for s, n := range e.distanceCount {
		dynamic += int(n) * int(e.distance.lengths[s]+distanceExtra[s])
		fixed += int(n) * int(5+distanceExtra[s])
	}
	parts := max(1, (len(data)+0xffff-1)/0xffff)
	stored := len(data)*8 + parts*(3+32+7)
	final := uint64(0)
	if last {
		final = 1
	}
	switch {
	case stored < min(dynamic, fixed)+3:
		e.writeStored(data, last)
	case fixed <= dynamic:
		e.put(final|1<<1, 3)
		e.writeSequences(data, list, &fixedLiterals, &fixedDistances)
	default:
		e.put(final|2<<1, 3)
		e.writeHeader()
		e.writeSequences(data, list, &e.literal, &e.distance)
	}
}

// writeStored writes data as it is (RFC 1951, section 3.2.4).
func (e *encoder) writeStored(data []byte, last bool) {
	for {
		n := min(len(data), 0xffff)
		final := uint64(0)
		if last && n == len(data) {
			final = 1
		}
		e.put(final, 3)
		e.align()
		e.out = binary.LittleEndian.AppendUint16(e.out, uint16(n))
		e.out = binary.LittleEndian.AppendUint16(e.out, ^uint16(n))
		e.out = append(e.out, data[:n]...)
		if data = data[n:]; len(data) == 0 {
			return
		}
	}
}

func (e *encoder) writeSequences(data []byte, list []sequence, literal, distance *code) {
	at := 0
	w := e.bitWriter
	for _, s := range list {
		run := data[at : at+int(s.plain)]
		for ; len(run) >= 3; run = run[3:] {
			a, b, c := run[0], run[1], run[2]
			n := uint(literal.lengths[a])
			v := uint64(literal.bits[a]) | uint64(literal.bits[b])<<n
			n += uint(literal.lengths[b])
			v |= uint64(literal.bits[c]) << n
			w.put(v, n+uint(literal.lengths[c]))
		}
		for _, x := range run {
			w.put(uint64(literal.bits[x]), uint(literal.lengths[x]))
		}
		at += int(s.plain) + int(s.length)
		if s.length == 0 {
			continue
		}
		l := lengthSymbol[s.length]
		n := uint(literal.lengths[l])
		v := uint64(literal.bits[l]) | uint64(s.length-lengthBase[l])<<n
		n += uint(lengthExtra[l])
		d := symbolOf(int(s.distance))
		v |= uint64(distance.bits[d]) << n
		n += uint(distance.lengths[d])
		v |= uint64(s.distance-distanceBase[d]) << n
		w.put(v, n+uint(distanceExtra[d]))
	}
	w.put(uint64(literal.bits[blockEnd]), uint(literal.lengths[blockEnd]))
	e.bitWriter = w
}

// order is that of the lengths of the code that codes are written in (RFC 1951, section 3.2.7).
var order = [19]uint8{16, 17, 18, 0, 8, 7, 9, 6, 10, 5, 11, 4, 12, 3, 13, 2, 14, 1, 15}

// header works out how a block's codes are written, and returns how many bits that takes.
func (e *encoder) header() int {
	e.manyLiterals, e.manyDistances = literals-2, distances
	for e.manyLiterals > 257 && e.literal.lengths[e.manyLiterals-1] == 0 {
		e.manyLiterals--
	}
	for e.manyDistances > 1 && e.distance.lengths[e.manyDistances-1] == 0 {
		e.manyDistances--
	}
	e.lengths = append(append(e.lengths[:0], e.literal.lengths[:e.manyLiterals]...), e.distance.lengths[:e.manyDistances]...)
	e.runs = e.runs[:0]
	clear(e.runCount[:])
	for i := 0; i < len(e.lengths); {
		n := 1
		for i+n < len(e.lengths) && e.lengths[i+n] == e.lengths[i] {
			n++
		}
		e.repeat(int(e.lengths[i]), n)
		i += n
	}
	e.tree.make(&e.run, e.runCount[:], 7)
	e.manyRuns = len(order)
	for e.manyRuns > 4 && e.run.lengths[order[e.manyRuns-1]] == 0 {
		e.manyRuns--
	}
	total := 5 + 5 + 4 + 3*e.manyRuns
	for s, n := range e.runCount {
		total += int(n) * (int(e.run.lengths[s]) + runExtra(s))
	}
	return total
}

// repeat writes that a length of a code occurs some times in a row (RFC 1951, section 3.2.7).
func (e *encoder) repeat(length, n int) {
	run := func(symbol, extra int) {
		e.runs = append(e.runs, uint16(symbol|extra<<5))
		e.runCount[symbol]++
	}
	if length == 0 {
		for ; n >= 11; n -= min(n, 138) {
			run(18, min(n, 138)-11)
		}
		if n >= 3 {
			run(17, n-3)
			n = 0
		}
	} else if n >= 4 {
		run(length, 0)
		for n--; n >= 3; n -= min(n, 6) {
			run(16, min(n, 6)-3)
		}
	}
	for range n {
		run(length, 0)
	}
}

func runExtra(symbol int) int {
	switch symbol {
	case 16:
		return 2
	case 17:
		return 3
	case 18:
		return 7
	}
	return 0
}

func (e *encoder) writeHeader() {
	e.put(uint64(e.manyLiterals-257)|uint64(e.manyDistances-1)<<5|uint64(e.manyRuns-4)<<10, 14)
	for _, s := range order[:e.manyRuns] {
		e.put(uint64(e.run.lengths[s]), 3)
	}
	for _, r := range e.runs {
		s := int(r & 31)
		n := uint(e.run.lengths[s])
		e.put(uint64(e.run.bits[s])|uint64(r>>5)<<n, n+uint(runExtra(s)))
	}
}

// log2 is the number of the highest bit that is set.
func log2(n int) int { return bits.Len32(uint32(n)) - 1 }
