package pictures

import (
	"image"
	"image/color"
	"math"
)

// A canvas is a picture in linear light: red, green, blue, alpha from 0 to 1, colours multiplied by alpha.
type canvas struct {
	w, h int
	pix  []float32
}

func newCanvas(w, h int) *canvas { return &canvas{w, h, make([]float32, 4*w*h)} }

func (c *canvas) row(y int) []float32 { return c.pix[4*c.w*y : 4*c.w*(y+1)] }

// toLinear brings a byte of sRGB (IEC 61966-2-1) to linear light, toByte the other way.
var (
	toLinear = func() (t [256]float32) {
		for i := range t {
			v := float64(i) / 255
			if v <= .04045 {
				t[i] = float32(v / 12.92)
			} else {
				t[i] = float32(math.Pow((v+.055)/1.055, 2.4))
			}
		}
		return t
	}()
	toByte = func() (t [4096]uint8) {
		for i := range t {
			v := (float64(i) + .5) / float64(len(t))
			v *= v // the table is finer where it is dark
			if v <= .0031308 {
				v *= 12.92
			} else {
				v = 1.055*math.Pow(v, 1/2.4) - .055
			}
			t[i] = uint8(math.Round(255 * min(1, v)))
		}
		return t
	}()
)

func encodeByte(v float32) uint8 {
	if v <= 0 {
		return 0
	}
	return toByte[min(len(toByte)-1, int(math.Sqrt(float64(v))*float64(len(toByte))))]
}

// A pixels reads rows of a picture in linear light.
type pixels struct {
	get     func(x, y int) (r, g, b, k, a uint8)
	place   func(x, y int) (int, int)
	profile *profile
	w, h    int
	block   int // pixels that are averaged, along each side

	photo *image.YCbCr // what is read, where that is all there is to it
}

func pixelsOf(m image.Image) pixels {
	b := m.Bounds()
	p := pixels{w: b.Dx(), h: b.Dy(), block: 1, place: func(x, y int) (int, int) { return b.Min.X + x, b.Min.Y + y }}
	if x, ok := m.(*master); ok {
		inner := x.Image.Bounds()
		if p.profile = x.profile; x.turn > 1 {
			p.place = x.place
		} else {
			p.place = func(x, y int) (int, int) { return inner.Min.X + x, inner.Min.Y + y }
		}
		if ink, ok := x.Image.(*image.CMYK); ok && x.profile != nil && x.profile.inks {
			p.get = inksOf(ink)
			return p
		}
		p.get = raw(x.Image, x.studio)
		if photo, ok := x.Image.(*image.YCbCr); ok && x.profile == nil && x.turn <= 1 && !x.studio {
			p.photo = photo
		}
		return p
	}
	p.get = raw(m, false)
	return p
}

// row reads the pixels of a line from x0 to before x1.
func (p *pixels) row(y, x0, x1 int, into []float32) {
	if p.photo != nil {
		clear(into[:4*(x1-x0)])
		addPhoto(p.photo, y, x0, x1, 1, into)
		return
	}
	for x := x0; x < x1; x++ {
		sx, sy := p.place(x, y)
		r, g, b, k, a := p.get(sx, sy)
		to := into[4*(x-x0) : 4*(x-x0)+4 : 4*(x-x0)+4]
		to[0], to[1], to[2] = p.profile.linear(r, g, b, k)
		if to[3] = 1; a < 255 {
			f := float32(a) / 255
			to[0], to[1], to[2], to[3] = to[0]*f, to[1]*f, to[2]*f, f
		}
	}
}

// addPhoto adds a line of a photograph, which is what most large masters are, to a line of blocks that are n pixels wide.
func addPhoto(m *image.YCbCr, y, x0, x1, n int, into []float32) {
	left, top := m.Rect.Min.X, m.Rect.Min.Y
	line := m.Y[m.YOffset(left+x0, top+y):][:x1-x0]
	colours, shared := m.COffset(left, top+y), wideColours(m.SubsampleRatio)
	cb, cr := m.Cb[colours:], m.Cr[colours:]
	before := -1
	var r0, g0, b0 int32
	for block := 0; len(line) > 0; block++ {
		var r, g, b float32
		wide := min(n, len(line))
		for i, luma := range line[:wide] {
			if c := (left+x0+i)>>shared - left>>shared; c != before {
				cb, cr := int32(cb[c])-128, int32(cr[c])-128
				before, r0, g0, b0 = c, 91881*cr, -22554*cb-46802*cr, 116130*cb
			}
			l := int32(luma) * 0x10101
			r, g, b = r+toLinear[byteOf(l+r0)], g+toLinear[byteOf(l+g0)], b+toLinear[byteOf(l+b0)]
		}
		to := into[4*block : 4*block+4 : 4*block+4]
		to[0], to[1], to[2], to[3] = to[0]+r, to[1]+g, to[2]+b, to[3]+float32(wide)
		line, x0 = line[wide:], x0+wide
	}
}

// wideColours is the logarithm of how many pixels of a line share a colour.
func wideColours(r image.YCbCrSubsampleRatio) int {
	switch r {
	case image.YCbCrSubsampleRatio422, image.YCbCrSubsampleRatio420:
		return 1
	case image.YCbCrSubsampleRatio411, image.YCbCrSubsampleRatio410:
		return 2
	}
	return 0
}

func byteOf(v int32) uint8 {
	if uint32(v)&0xff000000 == 0 {
		return uint8(v >> 16)
	}
	return uint8(^(v >> 31))
}

// averaged reads a line of blocks from x0 to before x1. spare is room for a line of pixels.
func (p *pixels) averaged(y, x0, x1 int, into, spare []float32) {
	n := p.block
	if n == 1 {
		p.row(y, x0, x1, into)
		return
	}
	clear(into[:4*(x1-x0)])
	begin, end := x0*n, min(x1*n, p.w)
	rows := min(n, p.h-y*n)
	for j := range rows {
		if p.photo != nil {
			addPhoto(p.photo, y*n+j, begin, end, n, into)
			continue
		}
		p.row(y*n+j, begin, end, spare)
		for i := range x1 - x0 {
			to := into[4*i : 4*i+4 : 4*i+4]
			for at := 4 * i * n; at < min(4*(i+1)*n, 4*(end-begin)); at += 4 {
				to[0] += spare[at]
				to[1] += spare[at+1]
				to[2] += spare[at+2]
				to[3] += spare[at+3]
			}
		}
	}
	for i := range x1 - x0 {
		f := 1 / float32(rows*min(n, end-begin-i*n))
		for k := range 4 {
			into[4*i+k] *= f
		}
	}
}

// A tap is what source pixels add to one pixel of the result.
type tap struct {
	first    int
	weights  []float32
	near, to int // those among them between which the result must stay, so that edges get no halo
}

const lobes = 3 // of the kernel

// taps places a Lanczos kernel over n source pixels, from begin over length, for each of size results.
func taps(n int, begin, length float64, size int) []tap {
	scale := length / float64(size)
	wide := max(1, scale) // a kernel as wide as what is averaged
	list := make([]tap, size)
	for i := range list {
		centre := begin + (float64(i)+.5)*scale
		lo, hi := max(0, int(math.Floor(centre-lobes*wide))), min(n, int(math.Ceil(centre+lobes*wide)))
		t := tap{first: lo, near: -1}
		sum := 0.
		for x := lo; x < hi; x++ {
			away := (float64(x) + .5 - centre) / wide
			w := lanczos(away)
			t.weights, sum = append(t.weights, float32(w)), sum+w
			if math.Abs(away) < 1 {
				if t.near < 0 {
					t.near = x - lo
				}
				t.to = x - lo + 1
			}
		}
		for j := range t.weights {
			t.weights[j] /= float32(sum)
		}
		list[i] = t
	}
	return list
}

func lanczos(x float64) float64 {
	switch x = math.Abs(x) * math.Pi; {
	case x == 0:
		return 1
	case x >= lobes*math.Pi:
		return 0
	}
	return math.Sin(x) / x * math.Sin(x/lobes) / (x / lobes)
}

// A region is a part of a picture, in pixels that need not be whole.
type region struct{ x, y, w, h float64 }

// scaled takes a region of a picture and brings it to a size. Rows are read once, so that a large picture takes little memory. Where much
// is left out, whole blocks are averaged first, which shows in nothing.
func scaled(m image.Image, r region, width, height int) *canvas {
	src := pixelsOf(m)
	src.block = max(1, int(min(r.w/float64(width), r.h/float64(height))/2))
	n := float64(src.block)
	sw, sh := (src.w+src.block-1)/src.block, (src.h+src.block-1)/src.block
	across, down := taps(sw, r.x/n, r.w/n, width), taps(sh, r.y/n, r.h/n, height)
	x0, x1 := across[0].first, 0
	for _, t := range across {
		x0, x1 = min(x0, t.first), max(x1, t.first+len(t.weights))
	}
	out, line, spare := newCanvas(width, height), make([]float32, 4*(x1-x0)), make([]float32, 4*(x1-x0)*src.block)
	rows, free := map[int][]float32{}, [][]float32{}
	least, most := make([]float32, 4*width), make([]float32, 4*width)
	for y, t := range down {
		for at, row := range rows {
			if at < t.first {
				free = append(free, row)
				delete(rows, at)
			}
		}
		into := out.row(y)
		for i, w := range t.weights {
			row, ok := rows[t.first+i]
			if !ok {
				if n := len(free); n > 0 {
					row, free = free[n-1], free[:n-1]
				} else {
					row = make([]float32, 4*width)
				}
				src.averaged(t.first+i, x0, x1, line, spare)
				narrow(line, x0, across, row)
				rows[t.first+i] = row
			}
			for j, v := range row {
				into[j] += w * v
			}
			switch {
			case i == t.near:
				copy(least, row)
				copy(most, row)
			case i > t.near && i < t.to:
				for j, v := range row {
					least[j], most[j] = min(least[j], v), max(most[j], v)
				}
			}
		}
		for j, v := range into {
			into[j] = min(most[j], max(least[j], v))
		}
	}
	out.clamp()
	return out
}

func narrow(line []float32, x0 int, across []tap, into []float32) {
	for x, t := range across {
		var r, g, b, a float32
		at := 4 * (t.first - x0)
		for _, w := range t.weights {
			s := line[at : at+4 : at+4]
			r, g, b, a = r+w*s[0], g+w*s[1], b+w*s[2], a+w*s[3]
			at += 4
		}
		at = 4 * (t.first - x0 + t.near)
		s := line[at : at+4 : at+4]
		r0, g0, b0, a0 := s[0], s[1], s[2], s[3]
		r1, g1, b1, a1 := r0, g0, b0, a0
		for at += 4; at < 4*(t.first-x0+t.to); at += 4 {
			s := line[at : at+4 : at+4]
			r0, g0, b0, a0 = min(r0, s[0]), min(g0, s[1]), min(b0, s[2]), min(a0, s[3])
			r1, g1, b1, a1 = max(r1, s[0]), max(g1, s[1]), max(b1, s[2]), max(a1, s[3])
		}
		to := into[4*x : 4*x+4 : 4*x+4]
		to[0], to[1], to[2], to[3] = min(r1, max(r0, r)), min(g1, max(g0, g)), min(b1, max(b0, b)), min(a1, max(a0, a))
	}
}

// clamp takes away what the kernel overshot.
func (c *canvas) clamp() {
	for i := 0; i < len(c.pix); i += 4 {
		a := min(1, max(0, c.pix[i+3]))
		c.pix[i+3] = a
		for j := i; j < i+3; j++ {
			c.pix[j] = min(a, max(0, c.pix[j]))
		}
	}
}

// image is the canvas as a picture that can be encoded.
func (c *canvas) image() *image.NRGBA {
	m := image.NewNRGBA(image.Rect(0, 0, c.w, c.h))
	for i := 0; i < len(c.pix); i += 4 {
		a := c.pix[i+3]
		if a <= 0 {
			continue
		}
		m.Pix[i], m.Pix[i+1], m.Pix[i+2], m.Pix[i+3] = encodeByte(c.pix[i]/a), encodeByte(c.pix[i+1]/a), encodeByte(c.pix[i+2]/a), uint8(a*255+.5)
	}
	return m
}

// over puts a canvas upon another, at a place.
func (c *canvas) over(top *canvas, x, y int) {
	for row := range top.h {
		if y+row < 0 || y+row >= c.h {
			continue
		}
		into, from := c.row(y+row), top.row(row)
		for col := range top.w {
			if x+col < 0 || x+col >= c.w {
				continue
			}
			i, j := 4*(x+col), 4*col
			left := 1 - from[j+3]
			for k := range 4 {
				into[i+k] = from[j+k] + left*into[i+k]
			}
		}
	}
}

func filled(w, h int, c color.NRGBA) *canvas {
	out := newCanvas(w, h)
	for i := 0; i < len(out.pix); i += 4 {
		out.pix[i], out.pix[i+1], out.pix[i+2], out.pix[i+3] = toLinear[c.R], toLinear[c.G], toLinear[c.B], 1
	}
	return out
}

// blurred is a region as a soft ground of a size, darker than the picture itself.
func blurred(m image.Image, r region, width, height int) *canvas {
	small := scaled(m, r, max(4, width/48), max(4, height/48))
	for i := range small.pix {
		if i%4 != 3 {
			small.pix[i] *= .5
		}
	}
	soft := small.image()
	return scaled(soft, region{0, 0, float64(small.w), float64(small.h)}, width, height)
}

// crop is the largest region of a shape within w by h, around a focus point in hundredths.
func crop(w, h, shape float64, focus [2]int) region {
	r := region{0, 0, w, h}
	if w/h > shape {
		r.w = h * shape
	} else {
		r.h = w / shape
	}
	r.x = min(w-r.w, max(0, w*float64(focus[0])/100-r.w/2))
	r.y = min(h-r.h, max(0, h*float64(focus[1])/100-r.h/2))
	return r
}
