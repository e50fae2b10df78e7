package pictures

import (
	"bytes"
	"errors"
	"image"
	"image/color"
	"image/draw"
	"image/png"
	"slices"
	"sort"

	"havvel/internal/pack/slim"
	"havvel/internal/pictures/photo"
)

// The qualities of JPEG: those between which one is searched, and that of a picture without a limit.
const (
	bestQuality  = 98
	worstQuality = 55
	plainQuality = 92
)

var errNoFormat = errors.New("the rulebook takes no format for it that havvel writes (png, jpeg)")

// encoded is a picture in a format.
type encoded struct {
	data    []byte
	format  string
	quality int  // of JPEG
	few     bool // its colours were reduced
	heavy   bool // it is over the limit all the same
}

// encode writes a picture in the best of the formats that are taken, within a limit in bytes; 0 for none. Where both are taken, it is
// PNG for what is transparent or drawn in few colours, and JPEG for the rest.
func encode(m *image.NRGBA, formats []string, limit int64, few bool) (*encoded, error) {
	var photo, drawn *encoded
	var err error
	if slices.Contains(formats, "jpeg") {
		if photo, err = asJPEG(m, limit); err != nil {
			return nil, err
		}
	}
	if slices.Contains(formats, "png") {
		if drawn, err = bestPNG(m, limit, few, photo); err != nil {
			return nil, err
		}
	}
	switch {
	case photo == nil && drawn == nil:
		return nil, errNoFormat
	case drawn == nil, photo != nil && drawn.heavy:
		return photo, nil
	case photo == nil, !m.Opaque(), len(drawn.data) <= len(photo.data):
		return drawn, nil
	}
	return photo, nil
}

// bestPNG writes a PNG, with few colours when it is too heavy and may be. It is nil when an opaque picture is lighter as JPEG.
func bestPNG(m *image.NRGBA, limit int64, few bool, photo *encoded) (*encoded, error) {
	if photo != nil && !photo.heavy && m.Opaque() {
		if manyColours(m) {
			return nil, nil
		}
		quick, err := asPNG(m, png.BestSpeed)
		if err != nil || len(quick) > 2*len(photo.data) {
			return nil, err
		}
	}
	data, err := asPNG(m, png.DefaultCompression)
	if err != nil {
		return nil, err
	}
	e := &encoded{data: slim.PNG(data), format: "png"}
	if few && !fits(e.data, limit) {
		if data, err = asPNG(reduced(m, 256), png.BestCompression); err != nil {
			return nil, err
		}
		e = &encoded{data: slim.PNG(data), format: "png", few: true}
	}
	e.heavy = !fits(e.data, limit)
	return e, nil
}

// manyColours reports whether a picture is painted or photographed: hardly two of its pixels have the same colour.
func manyColours(m *image.NRGBA) bool {
	seen := map[[3]uint8]bool{}
	n, step := 0, 4*max(1, len(m.Pix)/4/5000)
	for i := 0; i+3 < len(m.Pix); i += step {
		seen[[3]uint8{m.Pix[i], m.Pix[i+1], m.Pix[i+2]}] = true
		n++
	}
	return len(seen) > n/4
}

func fits(data []byte, limit int64) bool { return limit <= 0 || int64(len(data)) <= limit }

func asPNG(m image.Image, level png.CompressionLevel) ([]byte, error) {
	var b bytes.Buffer
	err := (&png.Encoder{CompressionLevel: level}).Encode(&b, m)
	return b.Bytes(), err
}

// asJPEG searches the best quality that keeps within a limit, and makes use of what the limit allows.
func asJPEG(m *image.NRGBA, limit int64) (*encoded, error) {
	p := photo.Prepare(m, colourful(m))
	at := func(quality float64) *encoded {
		return &encoded{data: p.Encode(quality), format: "jpeg", quality: int(quality)}
	}
	if limit <= 0 {
		return at(plainQuality), nil
	}
	best := at(bestQuality)
	if fits(best.data, limit) {
		return best, nil
	}
	low, high := float64(worstQuality), float64(bestQuality)
	if best = at(low); !fits(best.data, limit) {
		best.heavy = true
		return best, nil
	}
	for high-low > .3 && int64(len(best.data)) < limit-limit/40 {
		middle := (low + high) / 2
		if e := at(middle); fits(e.data, limit) {
			best, low = e, middle
		} else {
			high = middle
		}
	}
	return best, nil
}

// colourful reports whether a picture has edges between strong colours, which blur when one colour stands for four pixels.
func colourful(m *image.NRGBA) bool {
	chroma := func(at int) (cb, cr int) {
		r, g, b := int(m.Pix[at]), int(m.Pix[at+1]), int(m.Pix[at+2])
		return (-169*r - 331*g + 500*b) / 1000, (500*r - 419*g - 81*b) / 1000
	}
	edges, seen := 0, 0
	for y := 0; y+1 < m.Rect.Dy(); y += 2 {
		for x := 0; x+1 < m.Rect.Dx(); x += 2 {
			at := y*m.Stride + 4*x
			cb, cr := chroma(at)
			seen++
			for _, other := range [3]int{at + 4, at + m.Stride, at + m.Stride + 4} {
				if b, r := chroma(other); max(b-cb, cb-b, r-cr, cr-r) > 40 {
					edges++
					break
				}
			}
		}
	}
	return edges*300 > seen
}

// reduced is a picture with few colours, its errors spread over the pixels around.
func reduced(m image.Image, colours int) *image.Paletted {
	p := image.NewPaletted(m.Bounds(), palette([]image.Image{m}, colours))
	draw.FloydSteinberg.Draw(p, m.Bounds(), m, m.Bounds().Min)
	return p
}

// A box is a part of the colour space, with the colours that are in it.
type box struct {
	colours [][4]uint8
	channel int // in which they differ most
	spread  int
}

func newBox(colours [][4]uint8) *box {
	b := &box{colours: colours}
	for c := range 4 {
		lo, hi := colours[0][c], colours[0][c]
		for _, p := range colours {
			lo, hi = min(lo, p[c]), max(hi, p[c])
		}
		if s := int(hi - lo); s > b.spread {
			b.channel, b.spread = c, s
		}
	}
	return b
}

// palette finds colours for pictures by cutting the colour space at medians. A transparent one is among them where needed.
func palette(pictures []image.Image, most int) color.Palette {
	var colours [][4]uint8
	clear := false
	for _, m := range pictures {
		b := m.Bounds()
		step := max(1, b.Dx()*b.Dy()*len(pictures)/60000)
		for i := 0; i < b.Dx()*b.Dy(); i += step {
			c := color.NRGBAModel.Convert(m.At(b.Min.X+i%b.Dx(), b.Min.Y+i/b.Dx())).(color.NRGBA)
			if c.A == 0 {
				clear = true
				continue
			}
			colours = append(colours, [4]uint8{c.R, c.G, c.B, c.A})
		}
	}
	var p color.Palette
	if clear {
		p = append(p, color.NRGBA{})
	}
	if len(colours) == 0 {
		return append(p, color.NRGBA{A: 255})
	}
	boxes := []*box{newBox(colours)}
	for len(boxes) < most-len(p) {
		widest := slices.MaxFunc(boxes, func(a, b *box) int { return a.spread*min(len(a.colours), 64) - b.spread*min(len(b.colours), 64) })
		if widest.spread == 0 || len(widest.colours) < 2 {
			break
		}
		c := widest.channel
		sort.Slice(widest.colours, func(i, j int) bool { return widest.colours[i][c] < widest.colours[j][c] })
		half := len(widest.colours) / 2
		other := newBox(widest.colours[half:])
		*widest = *newBox(widest.colours[:half])
		boxes = append(boxes, other)
	}
	for _, b := range boxes {
		var sum [4]int
		for _, c := range b.colours {
			for i := range sum {
				sum[i] += int(c[i])
			}
		}
		n := len(b.colours)
		p = append(p, color.NRGBA{uint8(sum[0] / n), uint8(sum[1] / n), uint8(sum[2] / n), uint8(sum[3] / n)})
	}
	return p
}
