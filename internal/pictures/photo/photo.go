// Package photo writes JPEG (ITU-T T.81) in its progressive form, with Huffman tables made for each picture, and colours in full
// resolution where they are wanted so. A picture is prepared once, and written at as many qualities as it takes to meet a weight.
package photo

import (
	"image"
	"math"
)

// A Picture is one that is ready to be written.
type Picture struct {
	w, h  int
	full  bool
	parts [3]part // luminance and the two of colour
}

// A part is one component, in blocks of 8 by 8.
type part struct {
	sampling     int // how many of its blocks stand side by side, and above each other, in a unit
	wide, high   int // blocks that hold something of the picture
	across, down int // blocks, with those that fill up the last units
	waves        []int16
}

// waveScale is by how much the transform's results are kept larger, so that rounding them does no harm.
const waveScale = 8

// Prepare makes a picture ready. Its pixels are taken as opaque. With full, colours keep their resolution; else one stands for four
// pixels.
func Prepare(m *image.NRGBA, full bool) *Picture {
	p := &Picture{w: m.Rect.Dx(), h: m.Rect.Dy(), full: full}
	unit := 1
	if !full {
		unit = 2
	}
	unitsWide, unitsHigh := (p.w+8*unit-1)/(8*unit), (p.h+8*unit-1)/(8*unit)
	for i := range p.parts {
		c := &p.parts[i]
		c.sampling = 1
		w, h := p.w, p.h
		if i == 0 {
			c.sampling = unit
		} else {
			w, h = (p.w+unit-1)/unit, (p.h+unit-1)/unit
		}
		c.wide, c.high = (w+7)/8, (h+7)/8
		c.across, c.down = unitsWide*c.sampling, unitsHigh*c.sampling
		c.waves = make([]int16, 64*c.across*c.down)
		step := unit / c.sampling
		plane := samples(m, i, step, 8*c.across, 8*c.down)
		for y := range c.down {
			for x := range c.across {
				transform(plane[8*y*8*c.across+8*x:], 8*c.across, c.waves[64*(y*c.across+x):][:64])
			}
		}
	}
	return p
}

// samples are a component's values around zero, averaged over step by step pixels. Beyond the picture its edge goes on.
func samples(m *image.NRGBA, component, step, wide, high int) []float32 {
	plane := make([]float32, wide*high)
	w, h := m.Rect.Dx(), m.Rect.Dy()
	f := [3][4]float32{{.299, .587, .114, -128}, {-.168735892, -.331264108, .5, 0}, {.5, -.418687589, -.081312411, 0}}[component]
	part := f[3] * float32(step*step)
	for y := range high {
		for x := range wide {
			sum := part
			for j := range step {
				row := m.Pix[min(h-1, y*step+j)*m.Stride:]
				for i := range step {
					at := 4 * min(w-1, x*step+i)
					sum += f[0]*float32(row[at]) + f[1]*float32(row[at+1]) + f[2]*float32(row[at+2])
				}
			}
			plane[y*wide+x] = sum / float32(step*step)
		}
	}
	return plane
}

// cosines are those of the transform (T.81, A.3.3): cosines[u][x].
var cosines = func() (t [8][8]float32) {
	for u := range 8 {
		c := .5
		if u == 0 {
			c = .5 / math.Sqrt2
		}
		for x := range 8 {
			t[u][x] = float32(c * math.Cos(float64(2*x+1)*float64(u)*math.Pi/16))
		}
	}
	return t
}()

// line transforms eight values.
func line(a *[8]float32) {
	var sum, off [4]float32
	for i := range 4 {
		sum[i], off[i] = a[i]+a[7-i], a[i]-a[7-i]
	}
	for u := 0; u < 8; u += 2 {
		c, o := &cosines[u], &cosines[u+1]
		a[u] = c[0]*sum[0] + c[1]*sum[1] + c[2]*sum[2] + c[3]*sum[3]
		a[u+1] = o[0]*off[0] + o[1]*off[1] + o[2]*off[2] + o[3]*off[3]
	}
}

func transform(from []float32, stride int, into []int16) {
	var rows [8][8]float32
	for y := range 8 {
		copy(rows[y][:], from[y*stride:])
		line(&rows[y])
	}
	for x := range 8 {
		var column [8]float32
		for y := range 8 {
			column[y] = rows[y][x]
		}
		line(&column)
		for y := range 8 {
			into[8*y+x] = int16(math.Round(float64(column[y] * waveScale)))
		}
	}
}

// zigzag is the order of a block's values (T.81, figure A.6).
var zigzag = [64]int{
	0, 1, 8, 16, 9, 2, 3, 10, 17, 24, 32, 25, 18, 11, 4, 5, 12, 19, 26, 33, 40, 48, 41, 34, 27, 20, 13, 6, 7, 14, 21, 28,
	35, 42, 49, 56, 57, 50, 43, 36, 29, 22, 15, 23, 30, 37, 44, 51, 58, 59, 52, 45, 38, 31, 39, 46, 53, 60, 61, 54, 47, 55, 62, 63,
}

// coarseness are the tables of T.81, K.1, in the order of rows: for luminance and for colour.
var coarseness = [2][64]int{
	{
		16, 11, 10, 16, 24, 40, 51, 61, 12, 12, 14, 19, 26, 58, 60, 55, 14, 13, 16, 24, 40, 57, 69, 56, 14, 17, 22, 29, 51, 87, 80, 62,
		18, 22, 37, 56, 68, 109, 103, 77, 24, 35, 55, 64, 81, 104, 113, 92, 49, 64, 78, 87, 103, 121, 120, 101, 72, 92, 95, 98, 112, 100, 103, 99,
	},
	{
		17, 18, 24, 47, 99, 99, 99, 99, 18, 21, 26, 66, 99, 99, 99, 99, 24, 26, 56, 99, 99, 99, 99, 99, 47, 66, 99, 99, 99, 99, 99, 99,
		99, 99, 99, 99, 99, 99, 99, 99, 99, 99, 99, 99, 99, 99, 99, 99, 99, 99, 99, 99, 99, 99, 99, 99, 99, 99, 99, 99, 99, 99, 99, 99,
	},
}

// table is how coarse values are kept at a quality from 1 to 100, on the scale that most programs use.
func table(of int, quality float64) (t [64]int) {
	scale := 200 - 2*quality
	if quality < 50 {
		scale = 5000 / quality
	}
	for i, v := range coarseness[of] {
		t[i] = min(255, max(1, int(math.Round(float64(v)*scale/100))))
	}
	return t
}

// quantised are a part's values as they are written, block by block, in the order of zigzag.
func (c *part) quantised(t [64]int) []int16 {
	out := make([]int16, len(c.waves))
	var inverse [64]float32
	for k := range inverse {
		inverse[k] = 1 / float32(waveScale*t[zigzag[k]])
	}
	for b := 0; b < len(out); b += 64 {
		in, to := c.waves[b:b+64], out[b:b+64]
		for k := range 64 {
			v := float32(in[zigzag[k]]) * inverse[k]
			if v >= 0 {
				to[k] = int16(v + .5)
			} else {
				to[k] = -int16(.5 - v)
			}
		}
	}
	return out
}
