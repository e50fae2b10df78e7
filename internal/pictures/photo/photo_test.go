package photo

import (
	"bytes"
	"image"
	"image/color"
	"image/jpeg"
	"math"
	"math/rand/v2"
	"testing"
)

// scene is a picture of soft grounds, sharp edges and grain.
func scene(w, h int) *image.NRGBA {
	r := rand.New(rand.NewPCG(1, 2))
	m := image.NewNRGBA(image.Rect(0, 0, w, h))
	for y := range h {
		for x := range w {
			c := color.NRGBA{uint8(x * 255 / w), uint8(y * 255 / h), uint8(128 + 90*math.Sin(float64(x*y)/900)), 255}
			if (x/23+y/17)%5 == 0 {
				c = color.NRGBA{230, 20, 40, 255}
			}
			c.G += uint8(r.IntN(9))
			m.SetNRGBA(x, y, c)
		}
	}
	return m
}

// TestEncode: what is written is read by another decoder as what it was, at any size, and looks the better the higher the quality.
func TestEncode(t *testing.T) {
	for _, size := range [][2]int{{1, 1}, {8, 8}, {7, 9}, {17, 16}, {33, 70}, {320, 200}} {
		m := scene(size[0], size[1])
		for _, full := range []bool{true, false} {
			p, before, weight := Prepare(m, full), math.Inf(1), 0
			for _, q := range []float64{20, 60, 90, 98} {
				data := p.Encode(q)
				got, err := jpeg.Decode(bytes.NewReader(data))
				if err != nil {
					t.Fatalf("%v at %v: %v", size, q, err)
				}
				if got.Bounds() != m.Bounds() {
					t.Fatalf("%v comes back as %v", size, got.Bounds())
				}
				off := apart(m, got)
				if size[0] > 30 && (off > before*1.02 || len(data) < weight) {
					t.Errorf("%v full=%v at %v: %.2f off, before %.2f; %d bytes, before %d", size, full, q, off, before, len(data), weight)
				}
				if q == 98 && full && off > 1.3 {
					t.Errorf("%v at 98: %.2f off", size, off)
				}
				before, weight = off, len(data)
			}
		}
	}
}

// apart is the mean difference of two pictures' channels.
func apart(a *image.NRGBA, b image.Image) float64 {
	sum := 0.
	for y := range a.Rect.Dy() {
		for x := range a.Rect.Dx() {
			c, d := a.NRGBAAt(x, y), color.NRGBAModel.Convert(b.At(x, y)).(color.NRGBA)
			sum += math.Abs(float64(c.R)-float64(d.R)) + math.Abs(float64(c.G)-float64(d.G)) + math.Abs(float64(c.B)-float64(d.B))
		}
	}
	return sum / 3 / float64(a.Rect.Dx()*a.Rect.Dy())
}

// FuzzBook: whatever comes how often, every symbol has a code, and none begins another.
func FuzzBook(f *testing.F) {
	f.Add([]byte{1, 2, 3, 250, 4}, uint8(3))
	f.Fuzz(func(t *testing.T, often []byte, grow uint8) {
		var counts [257]int
		n := 0
		for i, v := range often[:min(256, len(often))] {
			if counts[i] = int(v) << (i % (1 + int(grow)%40)); v > 0 {
				n++
			}
		}
		if n == 0 {
			return
		}
		b := newBook(counts)
		if len(b.symbols) != n {
			t.Fatalf("%d codes for %d symbols", len(b.symbols), n)
		}
		room := 1.
		for i, v := range counts[:256] {
			size := b.keys[i].size
			if v > 0 != (size > 0) || size > 16 {
				t.Fatalf("symbol %d has %d bits", i, size)
			}
			if size > 0 {
				room -= math.Pow(2, -float64(size))
			}
		}
		if room <= 0 {
			t.Fatalf("a code is all ones")
		}
	})
}
