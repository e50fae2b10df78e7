package pictures

import (
	"image"
	"math"
	"slices"
)

// thumbnail is how wide a cover is where players browse, in pixels.
const thumbnail = 160

// What makes a cover hard to make out, on luminance from 0 (black) to 255.
const (
	dimBright  = 70 // its brightest twentieth is below this
	flatSpread = 14 // its standard deviation is below this
)

// dim says why a picture can't be made out at thumbnail size; "" when it can.
func dim(m image.Image) string {
	b := m.Bounds()
	small := scaled(m, region{0, 0, float64(b.Dx()), float64(b.Dy())}, thumbnail, max(1, thumbnail*b.Dy()/b.Dx())).image()
	var lights []float64
	sum, squares := 0., 0.
	for i := 0; i < len(small.Pix); i += 4 {
		a := float64(small.Pix[i+3]) / 255
		v := a * (.2126*float64(small.Pix[i]) + .7152*float64(small.Pix[i+1]) + .0722*float64(small.Pix[i+2]))
		lights, sum, squares = append(lights, v), sum+v, squares+v*v
	}
	slices.Sort(lights)
	n := float64(len(lights))
	spread := math.Sqrt(max(0, squares/n-(sum/n)*(sum/n)))
	switch {
	case lights[len(lights)*19/20] < dimBright:
		return "it is too dark to make out where players browse"
	case spread < flatSpread:
		return "too little contrast at thumbnail size where players browse"
	}
	return ""
}

// leastContrast is that of large letters that can be read (WCAG 2.2, 1.4.3).
const leastContrast = 3.

// contrast is that between the lights and the darks of a part of a picture, 1 for none; 0 for no part.
func contrast(m *image.NRGBA, part region) float64 {
	w, h := float64(m.Rect.Dx()), float64(m.Rect.Dy())
	x0, y0, x1, y1 := int(part.x*w), int(part.y*h), int((part.x+part.w)*w), int((part.y+part.h)*h)
	var lights []float64
	for y := max(0, y0); y < min(y1, m.Rect.Dy()); y++ {
		for x := max(0, x0); x < min(x1, m.Rect.Dx()); x++ {
			p := m.Pix[m.PixOffset(x, y):]
			lights = append(lights, .2126*float64(toLinear[p[0]])+.7152*float64(toLinear[p[1]])+.0722*float64(toLinear[p[2]]))
		}
	}
	if len(lights) == 0 {
		return 0
	}
	slices.Sort(lights)
	return (lights[len(lights)*19/20] + .05) / (lights[len(lights)/20] + .05)
}

// seam reports whether a picture that is repeated shows its edges: neighbours across an edge differ far more than neighbours
// within.
func seam(m *image.NRGBA) bool {
	b := m.Bounds()
	if b.Dx() < 4 || b.Dy() < 4 {
		return false
	}
	across := func(x1, x2 int) float64 {
		sum := 0.
		for y := b.Min.Y; y < b.Max.Y; y++ {
			sum += apart(m, x1, y, x2, y)
		}
		return sum / float64(b.Dy())
	}
	down := func(y1, y2 int) float64 {
		sum := 0.
		for x := b.Min.X; x < b.Max.X; x++ {
			sum += apart(m, x, y1, x, y2)
		}
		return sum / float64(b.Dx())
	}
	visible := func(edge, within float64) bool { return edge > 6 && edge > 2.5*within }
	var xs, ys float64
	for i := range 16 {
		x, y := b.Min.X+i*(b.Dx()-1)/16, b.Min.Y+i*(b.Dy()-1)/16
		xs, ys = max(xs, across(x, x+1)), max(ys, down(y, y+1))
	}
	return visible(across(b.Max.X-1, b.Min.X), xs) || visible(down(b.Max.Y-1, b.Min.Y), ys)
}

// apart is how much two pixels differ, from 0 to 255.
func apart(m *image.NRGBA, x1, y1, x2, y2 int) float64 {
	i, j := m.PixOffset(x1, y1), m.PixOffset(x2, y2)
	d := 0.
	for k := range 3 {
		d += math.Abs(float64(m.Pix[i+k]) - float64(m.Pix[j+k]))
	}
	return d / 3
}

// seeThrough reports whether a visible part of a canvas is not opaque.
func (c *canvas) seeThrough() bool {
	n := 0
	for i := 3; i < len(c.pix); i += 4 {
		if c.pix[i] < .98 {
			n++
		}
	}
	return n > len(c.pix)/4/1000
}
