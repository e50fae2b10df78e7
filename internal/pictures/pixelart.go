package pictures

import (
	"image"
	"math"
)

// What makes a picture pixel art: few colours, on few pixels, or on blocks of equal ones.
const (
	mostArtColours = 256
	mostArtSide    = 400 // pixels of the art's own
	looked         = 16 << 20
)

// artOf is the art that a picture shows, each of its pixels once; nil for a picture that is none.
func artOf(m image.Image) *image.NRGBA {
	b := m.Bounds()
	if b.Dx()*b.Dy() > looked {
		return nil
	}
	p := pixelsOf(m)
	side, colours := blocks(p)
	w, h := p.w/side, p.h/side
	if w > mostArtSide || h > mostArtSide || colours < 3 || colours > mostArtColours || w*h < 64 || side == 1 && colours > 64 {
		return nil
	}
	art := image.NewNRGBA(image.Rect(0, 0, w, h))
	line := make([]float32, 4)
	for y := range h {
		for x := range w {
			p.row(y*side, x*side, x*side+1, line)
			c := canvas{1, 1, line}
			copy(art.Pix[art.PixOffset(x, y):], c.image().Pix)
		}
	}
	return art
}

// blocks is the side of the largest squares of one colour that make a picture, and how many colours it has; where these are more than art
// has, they are not counted to the end.
func blocks(p pixels) (side, colours int) {
	seen := map[[4]uint8]bool{}
	at := func(x, y int) [4]uint8 {
		sx, sy := p.place(x, y)
		r, g, b, _, a := p.get(sx, sy)
		return [4]uint8{r, g, b, a}
	}
	for y := range p.h {
		for x := range p.w {
			c := at(x, y)
			if seen[c] = true; len(seen) > mostArtColours {
				return 1, len(seen)
			}
			if x > 0 && at(x-1, y) != c {
				side = divisor(side, x)
			}
			if y > 0 && at(x, y-1) != c {
				side = divisor(side, y)
			}
		}
	}
	return max(1, divisor(side, divisor(p.w, p.h))), len(seen)
}

func divisor(a, b int) int {
	for b != 0 {
		a, b = b, a%b
	}
	return a
}

// leastKept is the share of what a crop would show that must be left when pixels are scaled by a whole factor.
const leastKept = .7

// enlarged brings a region of pixel art to a size: by a whole factor around the region's middle, where that shows most of it; else with
// edges as sharp as that size allows.
func enlarged(art *image.NRGBA, r region, width, height int) *canvas {
	ratio := float64(width) / r.w
	factor := int(math.Ceil(ratio - .01))
	w, h := float64(width)/float64(factor), float64(height)/float64(factor)
	if w*h < leastKept*r.w*r.h {
		factor *= 2
		return scaled(repeated(art, factor), region{r.x * float64(factor), r.y * float64(factor), r.w * float64(factor), r.h * float64(factor)},
			width, height)
	}
	x0, y0 := int(math.Round(r.x+(r.w-w)/2)), int(math.Round(r.y+(r.h-h)/2))
	out := newCanvas(width, height)
	p := pixelsOf(art)
	for y := range height {
		row := out.row(y)
		sy := min(p.h-1, max(0, y0+y/factor))
		for x := range width {
			sx := min(p.w-1, max(0, x0+x/factor))
			p.row(sy, sx, sx+1, row[4*x:])
		}
	}
	return out
}

// repeated shows every pixel as a block of them.
func repeated(art *image.NRGBA, factor int) *image.NRGBA {
	w, h := art.Rect.Dx()*factor, art.Rect.Dy()*factor
	out := image.NewNRGBA(image.Rect(0, 0, w, h))
	for y := range h {
		for x := range w {
			copy(out.Pix[out.PixOffset(x, y):][:4], art.Pix[art.PixOffset(x/factor, y/factor):])
		}
	}
	return out
}
