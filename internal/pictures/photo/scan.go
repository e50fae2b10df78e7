package photo

import "math/bits"

// A code is a symbol to be written with bits behind it.
type code struct {
	symbol uint8
	class  uint8 // the table: 0 and 1 for luminance and colour; plainBits for bits alone
	size   uint8
	extra  uint16
}

const plainBits = 2

// A scan goes through some values of all blocks of some parts (T.81, G.1): those from first to last, of which low bits are left out, or are
// made up for.
type scan struct {
	parts       []int
	first, last int
	high, low   int // bits that were left out before, and are now
}

// scans are those that most programs write: what shows most comes first, and bits that are hard to tell come last.
var scans = []scan{
	{[]int{0, 1, 2}, 0, 0, 0, 1},
	{[]int{0}, 1, 5, 0, 2},
	{[]int{2}, 1, 63, 0, 1},
	{[]int{1}, 1, 63, 0, 1},
	{[]int{0}, 6, 63, 0, 2},
	{[]int{0}, 1, 63, 2, 1},
	{[]int{0, 1, 2}, 0, 0, 1, 0},
	{[]int{2}, 1, 63, 1, 0},
	{[]int{1}, 1, 63, 1, 0},
	{[]int{0}, 1, 63, 1, 0},
}

// A coder lists the codes of a scan.
type coder struct {
	list   []code
	class  uint8
	blocks int    // that end here, and are not written yet
	behind []code // bits of theirs
}

func (c *coder) symbol(s uint8) { c.list = append(c.list, code{symbol: s, class: c.class}) }

func (c *coder) value(symbol uint8, size int, extra int) {
	c.list = append(c.list, code{symbol, c.class, uint8(size), uint16(extra) & (1<<size - 1)})
}

func bit(v int) code { return code{class: plainBits, size: 1, extra: uint16(v & 1)} }

// flush writes how many blocks have ended.
func (c *coder) flush() {
	if c.blocks == 0 {
		return
	}
	size := bits.Len(uint(c.blocks)) - 1
	c.value(uint8(size<<4), size, c.blocks)
	c.list = append(c.list, c.behind...)
	c.blocks, c.behind = 0, c.behind[:0]
}

func magnitude(v int) int {
	if v < 0 {
		return -v
	}
	return v
}

// steady codes what is the same all over blocks (T.81, G.1.2.1): all parts, unit by unit.
func (c *coder) steady(p *Picture, values [3][]int16, s scan) {
	var before [3]int
	unitsWide, unitsHigh := p.parts[1].across, p.parts[1].down
	for uy := range unitsHigh {
		for ux := range unitsWide {
			for i := range p.parts {
				of := &p.parts[i]
				c.class = uint8(min(1, i))
				for n := range of.sampling * of.sampling {
					x, y := ux*of.sampling+n%of.sampling, uy*of.sampling+n/of.sampling
					v := int(values[i][64*(y*of.across+x)])
					if s.high > 0 {
						c.list = append(c.list, bit(v>>s.low))
						continue
					}
					v >>= s.low
					d := v - before[i]
					before[i] = v
					size := bits.Len(uint(magnitude(d)))
					if d < 0 {
						d--
					}
					c.value(uint8(size), size, d)
				}
			}
		}
	}
}

// varying codes the other values of one part, for the first time (T.81, G.1.2.2).
func (c *coder) varying(of *part, values []int16, s scan) {
	for y := range of.high {
		for x := range of.wide {
			block := values[64*(y*of.across+x):][:64]
			run := 0
			for _, value := range block[s.first : s.last+1] {
				v := magnitude(int(value)) >> s.low
				if v == 0 {
					run++
					continue
				}
				c.flush()
				for ; run > 15; run -= 16 {
					c.symbol(0xf0)
				}
				size := bits.Len(uint(v))
				extra := v
				if value < 0 {
					extra = ^v
				}
				c.value(uint8(run<<4|size), size, extra)
				run = 0
			}
			if run > 0 {
				if c.blocks++; c.blocks == 0x7fff {
					c.flush()
				}
			}
		}
	}
	c.flush()
}

// mostBehind is how many bits may wait for the end of a run of blocks.
const mostBehind = 900

// refined codes one more bit of the values of one part (T.81, G.1.2.3).
func (c *coder) refined(of *part, values []int16, s scan) {
	var now []code
	for y := range of.high {
		for x := range of.wide {
			block := values[64*(y*of.across+x):][:64]
			end := 0
			var sizes [64]int
			for k := s.first; k <= s.last; k++ {
				if sizes[k] = magnitude(int(block[k])) >> s.low; sizes[k] == 1 {
					end = k
				}
			}
			run := 0
			now = now[:0]
			for k := s.first; k <= s.last; k++ {
				v := sizes[k]
				if v == 0 {
					run++
					continue
				}
				for run > 15 && k <= end {
					c.flush()
					c.symbol(0xf0)
					run -= 16
					c.list, now = append(c.list, now...), now[:0]
				}
				if v > 1 {
					now = append(now, bit(v))
					continue
				}
				c.flush()
				sign := 1
				if block[k] < 0 {
					sign = 0
				}
				c.value(uint8(run<<4|1), 1, sign)
				c.list, now = append(c.list, now...), now[:0]
				run = 0
			}
			if run > 0 || len(now) > 0 {
				c.blocks++
				if c.behind = append(c.behind, now...); c.blocks == 0x7fff || len(c.behind) > mostBehind {
					c.flush()
				}
			}
		}
	}
	c.flush()
}
