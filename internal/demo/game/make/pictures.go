package main

import (
	"image"
	"image/color"
	"math"
	"math/rand/v2"

	"golang.org/x/image/vector"
)

// drawHouses draws two rows of crooked houses, side by side without a seam: red is the far row, green the
// near one, blue the windows of the near one (each of its own strength, so that they differ at night).
func drawHouses() image.Image {
	const w, h = 1024, 256
	far, near, windows := image.NewAlpha(
		image.Rect(0, 0, w, h),
	), image.NewAlpha(
		image.Rect(0, 0, w, h),
	), image.NewAlpha(
		image.Rect(0, 0, w, h),
	)
	row(far, nil, rand.New(rand.NewPCG(7, 1)), 46, 78, 100)
	row(near, windows, rand.New(rand.NewPCG(5, 9)), 64, 104, 120)
	m := image.NewNRGBA(image.Rect(0, 0, w, h))
	for i := range w * h {
		m.Pix[4*i], m.Pix[4*i+1], m.Pix[4*i+2], m.Pix[4*i+3] = far.Pix[i], near.Pix[i], windows.Pix[i], 255
	}
	return m
}

// row draws houses of that least and most width, about that high, from edge to edge.
func row(m, windows *image.Alpha, chance *rand.Rand, least, most, high float32) {
	w, h := float32(m.Rect.Dx()), float32(m.Rect.Dy())
	for x := float32(0); x < w-least/2; {
		width := min(least+chance.Float32()*(most-least), w-x)
		tall := high * (0.7 + 0.6*chance.Float32())
		lean := (chance.Float32() - 0.5) * 12
		eaves := h - tall
		ridge := eaves - width*(0.35+0.35*chance.Float32())
		peak := x + width*(0.35+0.3*chance.Float32()) + lean
		fill(
			m,
			255,
			x,
			h,
			x+lean*0.6,
			eaves,
			x-4+lean*0.6,
			eaves+3,
			peak,
			ridge,
			x+width+4+lean*0.6,
			eaves+3,
			x+width+lean*0.6,
			eaves,
			x+width,
			h,
		)
		chimney := peak + width*0.18
		fill(m, 255, chimney, eaves, chimney, ridge-10, chimney+8, ridge-12, chimney+8, eaves)
		if windows != nil {
			light(windows, chance, x+lean*0.4, eaves+10, width, h-16)
		}
		x += width - 2
	}
}

func light(windows *image.Alpha, chance *rand.Rand, x, top, width, bottom float32) {
	for y := top; y < bottom-22; y += 30 {
		for wx := x + 10; wx < x+width-16; wx += 22 {
			if chance.Float32() < 0.5 {
				fill(windows, uint8(90+chance.IntN(165)), wx, y+16, wx, y+3, wx+5, y, wx+10, y+3, wx+10, y+16)
			}
		}
	}
}

// fill fills a polygon.
func fill(m *image.Alpha, strength uint8, points ...float32) {
	r := vector.NewRasterizer(m.Rect.Dx(), m.Rect.Dy())
	r.MoveTo(points[0], points[1])
	for i := 2; i < len(points); i += 2 {
		r.LineTo(points[i], points[i+1])
	}
	r.ClosePath()
	r.Draw(m, m.Rect, image.NewUniform(color.Alpha{strength}), image.Point{})
}

// drawCobbles draws a square of paving that repeats: red and green are the slope, blue the height.
func drawCobbles() image.Image {
	const size, stones = 256, 9
	chance := rand.New(rand.NewPCG(3, 3))
	var at [stones][stones][2]float64
	for j := range stones {
		for i := range stones {
			at[j][i] = [2]float64{float64(i) + 0.5*float64(j%2) + 0.16*chance.NormFloat64(), float64(j) + 0.12*chance.NormFloat64()}
		}
	}
	height := func(px, py int) float64 {
		x, y := float64(px)/size*stones, float64(py)/size*stones
		first, second := math.Inf(1), math.Inf(1)
		for dj := -2; dj <= 2; dj++ {
			for di := -2; di <= 2; di++ {
				j, i := int(math.Floor(y))+dj, int(math.Floor(x))+di
				wj, wi := (j+2*stones)%stones, (i+2*stones)%stones
				p := at[wj][wi]
				d := math.Hypot(x-p[0]-float64(i-wi), y-p[1]-float64(j-wj))
				if d < first {
					first, second = d, first
				} else if d < second {
					second = d
				}
			}
		}
		edge := math.Min(1, (second-first)/0.42)
		return math.Sqrt(1 - (1-edge)*(1-edge))
	}
	m := image.NewNRGBA(image.Rect(0, 0, size, size))
	for y := range size {
		for x := range size {
			h := height(x, y)
			dx := h - height((x+1)%size, y)
			dy := h - height(x, (y+1)%size)
			m.SetNRGBA(x, y, color.NRGBA{slope(dx), slope(dy), uint8(255 * h), 255})
		}
	}
	return m
}

func slope(d float64) uint8 { return uint8(math.Max(0, math.Min(255, 128+d*420))) }

// drawMist draws soft noise that repeats, for clouds, fog and flicker.
func drawMist() image.Image {
	const size = 128
	chance := rand.New(rand.NewPCG(11, 2))
	sum := make([]float64, size*size)
	for cells, strength := 4, 0.5; cells <= 32; cells, strength = cells*2, strength/2 {
		grid := make([]float64, cells*cells)
		for i := range grid {
			grid[i] = chance.Float64()
		}
		for y := range size {
			for x := range size {
				fx, fy := float64(x)*float64(cells)/size, float64(y)*float64(cells)/size
				ix, iy := int(fx), int(fy)
				tx, ty := smooth(fx-float64(ix)), smooth(fy-float64(iy))
				g := func(i, j int) float64 { return grid[(j%cells)*cells+i%cells] }
				top := g(ix, iy)*(1-tx) + g(ix+1, iy)*tx
				bottom := g(ix, iy+1)*(1-tx) + g(ix+1, iy+1)*tx
				sum[y*size+x] += strength * (top*(1-ty) + bottom*ty)
			}
		}
	}
	m := image.NewGray(image.Rect(0, 0, size, size))
	for i, v := range sum {
		m.Pix[i] = uint8(255 * math.Min(1, v/0.94))
	}
	return m
}

func smooth(t float64) float64 { return t * t * (3 - 2*t) }

// drawBackdrop draws what the page shows while the game loads: a sky that grows lighter to the hills.
func drawBackdrop() image.Image {
	const w, h = 480, 270
	m := image.NewNRGBA(image.Rect(0, 0, w, h))
	for y := range h {
		for x := range w {
			t := float64(y) / h
			hill := 0.80 + 0.05*math.Sin(float64(x)/70) + 0.025*math.Sin(float64(x)/23+1)
			c := color.NRGBA{uint8(10 + 22*t), uint8(14 + 26*t), uint8(34 + 40*t), 255}
			if t > hill {
				c = color.NRGBA{7, 9, 20, 255}
			}
			m.SetNRGBA(x, y, c)
		}
	}
	return m
}

// drawIcon draws a lit lantern for the tab.
func drawIcon() image.Image {
	const size = 64
	m := image.NewNRGBA(image.Rect(0, 0, size, size))
	frame, glass := image.NewAlpha(m.Rect), image.NewAlpha(m.Rect)
	fill(frame, 255, 22, 16, 27, 8, 37, 8, 42, 16)
	fill(frame, 255, 16, 16, 48, 16, 44, 22, 20, 22)
	fill(frame, 255, 20, 50, 44, 50, 48, 57, 16, 57)
	fill(glass, 255, 20, 23, 44, 23, 42, 49, 22, 49)
	for y := range size {
		for x := range size {
			i := y*size + x
			d := math.Hypot(float64(x)-31.5, float64(y)-37)
			glow := math.Max(0, 1-d/32)
			c := color.NRGBA{255, 176, 74, uint8(150 * glow * glow)}
			if glass.Pix[i] > 127 {
				c = color.NRGBA{255, uint8(244 - 3.4*d), uint8(math.Max(60, 190-7*d)), 255}
			}
			if frame.Pix[i] > 127 {
				c = color.NRGBA{38, 34, 52, 255}
			}
			m.SetNRGBA(x, y, c)
		}
	}
	return m
}
