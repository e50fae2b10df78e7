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
	m image.Image
	b image.Rectangle
}

func (p pixels) row(y int, x0, x1 int, into []float32) {
	put := func(i int, r, g, b, a uint8) {
		if a == 255 {
			into[i], into[i+1], into[i+2], into[i+3] = toLinear[r], toLinear[g], toLinear[b], 1
			return
		}
		f := float32(a) / 255
		into[i], into[i+1], into[i+2], into[i+3] = toLinear[r]*f, toLinear[g]*f, toLinear[b]*f, f
	}
	switch m := p.m.(type) {
	case *image.NRGBA:
		for x := x0; x < x1; x++ {
			s := m.Pix[m.PixOffset(p.b.Min.X+x, p.b.Min.Y+y):]
			put(4*(x-x0), s[0], s[1], s[2], s[3])
		}
	case *image.RGBA:
		for x := x0; x < x1; x++ {
			s := m.Pix[m.PixOffset(p.b.Min.X+x, p.b.Min.Y+y):]
			if s[3] == 255 {
				put(4*(x-x0), s[0], s[1], s[2], 255)
				continue
			}
			c := color.NRGBAModel.Convert(color.RGBA{s[0], s[1], s[2], s[3]}).(color.NRGBA)
			put(4*(x-x0), c.R, c.G, c.B, c.A)
		}
	case *image.YCbCr:
		for x := x0; x < x1; x++ {
			yi, ci := m.YOffset(p.b.Min.X+x, p.b.Min.Y+y), m.COffset(p.b.Min.X+x, p.b.Min.Y+y)
			r, g, b := color.YCbCrToRGB(m.Y[yi], m.Cb[ci], m.Cr[ci])
			put(4*(x-x0), r, g, b, 255)
		}
	case *image.Gray:
		for x := x0; x < x1; x++ {
			v := m.Pix[m.PixOffset(p.b.Min.X+x, p.b.Min.Y+y)]
			put(4*(x-x0), v, v, v, 255)
		}
	default:
		for x := x0; x < x1; x++ {
			c := color.NRGBAModel.Convert(p.m.At(p.b.Min.X+x, p.b.Min.Y+y)).(color.NRGBA)
			put(4*(x-x0), c.R, c.G, c.B, c.A)
		}
	}
}

// A tap is what source pixels add to one pixel of the result.
type tap struct {
	first   int
	weights []float32
}

// taps places a Catmull-Rom kernel over n source pixels, from begin over length, for each of size results.
func taps(n int, begin, length float64, size int) []tap {
	scale := length / float64(size)
	wide := max(1, scale) // a kernel as wide as what is averaged
	list := make([]tap, size)
	for i := range list {
		centre := begin + (float64(i)+.5)*scale
		lo, hi := int(math.Floor(centre-2*wide)), int(math.Ceil(centre+2*wide))
		lo, hi = max(0, lo), min(n, hi)
		t := tap{first: lo}
		sum := 0.
		for x := lo; x < hi; x++ {
			w := catmullRom((float64(x) + .5 - centre) / wide)
			t.weights, sum = append(t.weights, float32(w)), sum+w
		}
		for j := range t.weights {
			t.weights[j] /= float32(sum)
		}
		list[i] = t
	}
	return list
}

func catmullRom(x float64) float64 {
	x = math.Abs(x)
	switch {
	case x < 1:
		return 1.5*x*x*x - 2.5*x*x + 1
	case x < 2:
		return -.5*x*x*x + 2.5*x*x - 4*x + 2
	}
	return 0
}

// A region is a part of a picture, in pixels that need not be whole.
type region struct{ x, y, w, h float64 }

// scaled takes a region of a picture and brings it to a size. Rows are read once, so that a large picture takes little memory.
func scaled(m image.Image, r region, width, height int) *canvas {
	src := pixels{m, m.Bounds()}
	sw, sh := src.b.Dx(), src.b.Dy()
	across, down := taps(sw, r.x, r.w, width), taps(sh, r.y, r.h, height)
	x0, x1 := across[0].first, 0
	for _, t := range across {
		x0, x1 = min(x0, t.first), max(x1, t.first+len(t.weights))
	}
	out, line := newCanvas(width, height), make([]float32, 4*(x1-x0))
	rows, spare := map[int][]float32{}, [][]float32{}
	for y, t := range down {
		for at, row := range rows {
			if at < t.first {
				spare = append(spare, row)
				delete(rows, at)
			}
		}
		into := out.row(y)
		for i, w := range t.weights {
			row, ok := rows[t.first+i]
			if !ok {
				if n := len(spare); n > 0 {
					row, spare = spare[n-1], spare[:n-1]
				} else {
					row = make([]float32, 4*width)
				}
				src.row(t.first+i, x0, x1, line)
				narrow(line, x0, across, row)
				rows[t.first+i] = row
			}
			for j, v := range row {
				into[j] += w * v
			}
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
		into[4*x], into[4*x+1], into[4*x+2], into[4*x+3] = r, g, b, a
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
