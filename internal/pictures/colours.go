package pictures

import (
	"encoding/binary"
	"errors"
	"image"
	"image/color"
	"math"

	"github.com/kovidgoyal/imaging/prism/meta"
	"github.com/kovidgoyal/imaging/prism/meta/icc"
)

// A profile brings the colours of a master to linear light with the primaries of sRGB: by what each channel adds, where they don't
// depend on each other; else by a grid of colours.
type profile struct {
	adds *[3][256][3]float32
	grid []float32 // of sRGB
	side int       // colours along each side of the grid
	inks bool      // it has four channels: of printing
}

// profileOf reads the profile that a picture brings: a colour space by number (PNG, cICP), an ICC profile, or a gamma value (PNG, gAMA). It
// is nil for sRGB, and for a picture that says nothing.
func profileOf(md *meta.Data, start []byte, inks bool) (*profile, error) {
	if md == nil {
		return nil, nil
	}
	cicp, gamma := pngColours(start)
	if cicp.IsSet {
		return numbered(cicp)
	}
	p, err := md.ICCProfile()
	if err != nil {
		return nil, errors.New("its colour profile is broken")
	}
	if p == nil {
		return gammaOf(gamma), nil
	}
	if p.IsSRGB() {
		return nil, nil
	}
	channels := 3
	switch {
	case p.Header.DataColorSpace == icc.ColorSpaceGray:
		channels = 1
	case inks:
		channels = 4
	}
	to, err := p.CreateTransformerToSRGB(icc.RelativeColorimetricRenderingIntent, true, channels, false, false, true)
	switch {
	case err != nil:
		return nil, errors.New("its colour profile is of a kind that havvel can't read")
	case channels == 1:
		return greys(to), nil
	case channels == 4:
		return gridOf(to, 17, true), nil
	}
	if p := adding(to, light); p != nil {
		return p, nil
	}
	return gridOf(to, 33, false), nil
}

// numbered is the profile of a colour space that is named by number.
func numbered(cicp meta.CodingIndependentCodePoints) (*profile, error) {
	if cicp.IsSRGB() {
		return nil, nil
	}
	linear := meta.SRGB
	if linear.TransferCharacteristics = 8; cicp == linear {
		return gammaOf(1), nil
	}
	to := cicp.PipelineTo(linear)
	if to == nil {
		return nil, errors.New("its colour space is one that havvel can't read")
	}
	return adding(to, func(v float64) float64 { return v }), nil // it is linear
}

// light is the linear light of a value of sRGB (IEC 61966-2-1), which may be below 0 or above 1.
func light(v float64) float64 {
	if v <= .04045 {
		return v / 12.92
	}
	return math.Pow((v+.055)/1.055, 2.4)
}

// adding is a profile whose channels don't depend on each other; nil where they do.
func adding(to *icc.Pipeline, light func(float64) float64) *profile {
	at := func(r, g, b int) (v [3]float64) {
		v[0], v[1], v[2] = to.Transform(float64(r)/255, float64(g)/255, float64(b)/255)
		for i := range v {
			v[i] = light(v[i])
		}
		return v
	}
	p := &profile{adds: &[3][256][3]float32{}}
	black := at(0, 0, 0)
	for i := range 256 {
		for c, v := range [3][3]float64{at(i, 0, 0), at(0, i, 0), at(0, 0, i)} {
			for k := range v {
				p.adds[c][i][k] = float32(v[k] - black[k]*2/3) // black is counted three times
			}
		}
	}
	for _, c := range [][3]int{{255, 255, 255}, {200, 100, 50}, {30, 180, 90}, {80, 90, 220}, {128, 128, 128}, {10, 20, 30}} {
		want := at(c[0], c[1], c[2])
		for k := range want {
			got := p.adds[0][c[0]][k] + p.adds[1][c[1]][k] + p.adds[2][c[2]][k]
			if math.Abs(float64(got)-want[k]) > .002 {
				return nil
			}
		}
	}
	return p
}

// greys is the profile of a picture without colour.
func greys(to *icc.Pipeline) *profile {
	p := &profile{adds: &[3][256][3]float32{}}
	for i := range 256 {
		in, out := []float64{float64(i) / 255, 0, 0, 0}, make([]float64, 4)
		to.TransformGeneral(out, in)
		for k := range 3 {
			p.adds[0][i][k] = float32(light(min(1, max(0, in[k]))))
		}
	}
	return p
}

func gridOf(to *icc.Pipeline, side int, inks bool) *profile {
	p := &profile{side: side, inks: inks}
	last := 1
	if inks {
		last = side
	}
	step := func(i int) float64 { return float64(i) / float64(side-1) }
	for a := range side {
		for b := range side {
			for c := range side {
				for d := range last {
					in, out := []float64{step(a), step(b), step(c), step(d)}, make([]float64, 4)
					to.TransformGeneral(out, in)
					for k := range 3 {
						p.grid = append(p.grid, float32(min(1, max(0, in[k]))))
					}
				}
			}
		}
	}
	return p
}

// pngColours are what a PNG says of its colours beside a profile: a colour space by numbers (section 11.3.2.6), or a gamma value
// (11.3.2.2), 0 where it says none.
func pngColours(start []byte) (cicp meta.CodingIndependentCodePoints, gamma float64) {
	if len(start) < 33 || string(start[1:4]) != "PNG" {
		return cicp, 0
	}
	for at := 8; at+12 <= len(start); {
		n, kind := int(binary.BigEndian.Uint32(start[at:])), string(start[at+4:at+8])
		if kind == "IDAT" || n < 0 || at+12+n > len(start) {
			break
		}
		switch data := start[at+8:]; {
		case kind == "cICP" && n == 4:
			return meta.CodingIndependentCodePoints{
				ColorPrimaries: data[0], TransferCharacteristics: data[1], MatrixCoefficients: data[2], VideoFullRange: data[3], IsSet: true,
			}, 0
		case kind == "sRGB":
			gamma = 1 / 2.2
		case kind == "gAMA" && n == 4 && gamma == 0:
			gamma = float64(binary.BigEndian.Uint32(data)) / 100_000
		}
		at += 12 + n
	}
	return cicp, gamma
}

// gammaOf is the profile that a gamma value stands for; nil for that of sRGB, and for none.
func gammaOf(gamma float64) *profile {
	if gamma < .01 || math.Abs(gamma-1/2.2) < .01 {
		return nil
	}
	p := &profile{adds: &[3][256][3]float32{}}
	for i := range 256 {
		for k := range 3 {
			p.adds[k][i][k] = float32(math.Pow(float64(i)/255, 1/gamma))
		}
	}
	return p
}

// linear brings a colour to linear light.
func (p *profile) linear(r, g, b, k uint8) (float32, float32, float32) {
	switch {
	case p == nil:
		return toLinear[r], toLinear[g], toLinear[b]
	case p.adds != nil:
		x, y, z := &p.adds[0][r], &p.adds[1][g], &p.adds[2][b]
		return clip(x[0] + y[0] + z[0]), clip(x[1] + y[1] + z[1]), clip(x[2] + y[2] + z[2])
	}
	v := p.between([4]uint8{r, g, b, k})
	return linearOf(v[0]), linearOf(v[1]), linearOf(v[2])
}

func clip(v float32) float32 { return min(1, max(0, v)) }

func linearOf(v float32) float32 {
	at := v * 255
	i := min(254, int(at))
	f := at - float32(i)
	return toLinear[i] + f*(toLinear[i+1]-toLinear[i])
}

// between is the colour between those of the grid that are around it.
func (p *profile) between(in [4]uint8) (v [3]float32) {
	channels, strides := 3, [4]int{3 * p.side * p.side, 3 * p.side, 3}
	if p.inks {
		channels, strides = 4, [4]int{3 * p.side * p.side * p.side, 3 * p.side * p.side, 3 * p.side, 3}
	}
	base := 0
	var part [4]float32
	for c := range channels {
		at := float32(in[c]) / 255 * float32(p.side-1)
		i := min(p.side-2, int(at))
		base += i * strides[c]
		part[c] = at - float32(i)
	}
	for corner := range 1 << channels {
		at, weight := base, float32(1)
		for c := range channels {
			if corner>>c&1 == 1 {
				at += strides[c]
				weight *= part[c]
			} else {
				weight *= 1 - part[c]
			}
		}
		if weight > 0 {
			for k := range v {
				v[k] += weight * p.grid[at+k]
			}
		}
	}
	return v
}

// A master is a picture as it was decoded, with what is needed to show it rightly.
type master struct {
	image.Image
	turn    int  // EXIF orientation, 1 to 8; 0 for 1
	studio  bool // luminance goes from 16 to 235, as in WebP (RFC 9649)
	profile *profile
}

// Bounds are those of the picture as it is shown.
func (m *master) Bounds() image.Rectangle {
	b := m.Image.Bounds()
	if m.turn >= 5 {
		return image.Rect(0, 0, b.Dy(), b.Dx())
	}
	return image.Rect(0, 0, b.Dx(), b.Dy())
}

// place is where a shown pixel stands in the picture that was decoded.
func (m *master) place(x, y int) (int, int) {
	b := m.Image.Bounds()
	w, h := b.Dx()-1, b.Dy()-1
	switch m.turn {
	case 2:
		x = w - x
	case 3:
		x, y = w-x, h-y
	case 4:
		y = h - y
	case 5:
		x, y = y, x
	case 6:
		x, y = y, h-x
	case 7:
		x, y = w-y, h-x
	case 8:
		x, y = w-y, x
	}
	return b.Min.X + x, b.Min.Y + y
}

// At is a pixel in sRGB.
func (m *master) At(x, y int) color.Color {
	p := pixelsOf(m)
	line := make([]float32, 4)
	p.row(y, x, x+1, line)
	a := line[3]
	if a <= 0 {
		return color.NRGBA{}
	}
	return color.NRGBA{encodeByte(line[0] / a), encodeByte(line[1] / a), encodeByte(line[2] / a), uint8(a*255 + .5)}
}

// ColorModel implements image.Image.
func (m *master) ColorModel() color.Model { return color.NRGBAModel }

// Opaque reports whether no pixel is transparent.
func (m *master) Opaque() bool {
	o, ok := m.Image.(interface{ Opaque() bool })
	return ok && o.Opaque()
}

// raw reads pixels as they were decoded: red, green, blue (or inks) and alpha.
func raw(m image.Image, studio bool) func(x, y int) (r, g, b, k, a uint8) {
	switch m := m.(type) {
	case *image.NRGBA:
		return func(x, y int) (r, g, b, k, a uint8) {
			s := m.Pix[m.PixOffset(x, y):]
			return s[0], s[1], s[2], 0, s[3]
		}
	case *image.RGBA:
		return func(x, y int) (r, g, b, k, a uint8) {
			s := m.Pix[m.PixOffset(x, y):]
			if s[3] == 255 {
				return s[0], s[1], s[2], 0, 255
			}
			c := color.NRGBAModel.Convert(color.RGBA{s[0], s[1], s[2], s[3]}).(color.NRGBA)
			return c.R, c.G, c.B, 0, c.A
		}
	case *image.YCbCr:
		return func(x, y int) (r, g, b, k, a uint8) {
			i, j := m.YOffset(x, y), m.COffset(x, y)
			r, g, b = fromYCbCr(m.Y[i], m.Cb[j], m.Cr[j], studio)
			return r, g, b, 0, 255
		}
	case *image.NYCbCrA:
		return func(x, y int) (r, g, b, k, a uint8) {
			i, j := m.YOffset(x, y), m.COffset(x, y)
			r, g, b = fromYCbCr(m.Y[i], m.Cb[j], m.Cr[j], studio)
			return r, g, b, 0, m.A[m.AOffset(x, y)]
		}
	case *image.Gray:
		return func(x, y int) (r, g, b, k, a uint8) {
			v := m.Pix[m.PixOffset(x, y)]
			return v, v, v, 0, 255
		}
	case *image.Paletted:
		var list [256]color.NRGBA
		for i, c := range m.Palette {
			list[i] = color.NRGBAModel.Convert(c).(color.NRGBA)
		}
		return func(x, y int) (r, g, b, k, a uint8) {
			c := &list[m.Pix[m.PixOffset(x, y)]]
			return c.R, c.G, c.B, 0, c.A
		}
	}
	return func(x, y int) (r, g, b, k, a uint8) {
		c := color.NRGBAModel.Convert(m.At(x, y)).(color.NRGBA)
		return c.R, c.G, c.B, 0, c.A
	}
}

// inksOf reads pixels of a picture for printing, which its profile brings to colours.
func inksOf(m *image.CMYK) func(x, y int) (r, g, b, k, a uint8) {
	return func(x, y int) (r, g, b, k, a uint8) {
		s := m.Pix[m.PixOffset(x, y):]
		return s[0], s[1], s[2], s[3], 255
	}
}

func fromYCbCr(y, cb, cr uint8, studio bool) (r, g, b uint8) {
	if !studio {
		return color.YCbCrToRGB(y, cb, cr)
	}
	l, u, v := 298*(int32(y)-16)+128, int32(cb)-128, int32(cr)-128
	byteOf := func(v int32) uint8 { return uint8(min(255, max(0, v>>8))) }
	return byteOf(l + 409*v), byteOf(l - 100*u - 208*v), byteOf(l + 516*u)
}
