package pictures

import (
	"bytes"
	"errors"
	"image"
	"image/color"
	"image/gif"
	"math"
	"time"
)

// A Frame is one picture of a film.
type Frame struct {
	MS   int // after the first
	Data []byte
}

// frameTime is the time between two pictures of a GIF, in hundredths of a second.
const frameTime = 10

// GIF makes an animated GIF of frames, of a size, and of a length and weight in bytes at most. When it is too heavy, colours are
// given up first, then every second picture.
func GIF(frames []Frame, width, height int, length time.Duration, limit int64) ([]byte, error) {
	var chosen []*image.NRGBA
	var times []int // in hundredths of a second
	next := 0
	for _, f := range frames {
		if time.Duration(f.MS)*time.Millisecond > length {
			break
		}
		if f.MS < next {
			continue
		}
		next = f.MS - f.MS%(10*frameTime) + 10*frameTime
		m, err := decode(bytes.NewReader(f.Data))
		if err != nil {
			return nil, err
		}
		b := m.Bounds()
		part := crop(float64(b.Dx()), float64(b.Dy()), float64(width)/float64(height), [2]int{50, 50})
		chosen, times = append(chosen, scaled(m, part, width, height).image()), append(times, f.MS/10)
	}
	if len(chosen) < 2 {
		return nil, errors.New("too few pictures came for a clip; the game draws too slowly here")
	}
	var data []byte
	for _, try := range []struct{ colours, step int }{{256, 1}, {128, 1}, {64, 1}, {64, 2}, {32, 2}, {32, 4}} {
		var b bytes.Buffer
		if err := gif.EncodeAll(&b, animated(chosen, times, try.colours, try.step)); err != nil {
			return nil, err
		}
		if data = b.Bytes(); limit <= 0 || int64(len(data)) <= limit {
			break
		}
	}
	return data, nil
}

// animated brings pictures to few colours; what does not change from one to the next is transparent.
func animated(list []*image.NRGBA, times []int, colours, step int) *gif.GIF {
	var sample []image.Image
	for i := 0; i < len(list); i += max(1, len(list)/8) {
		sample = append(sample, list[i])
	}
	found := append(color.Palette{color.NRGBA{}}, palette(sample, colours-1)...)
	nearest := make([]uint8, 1<<15) // by five bits of each channel; 0 when it is not known yet
	g := &gif.GIF{}
	var shown []uint8
	for i := 0; i < len(list); i += step {
		m := list[i]
		p := image.NewPaletted(m.Bounds(), found)
		if shown == nil {
			shown = make([]uint8, len(p.Pix))
		}
		for j := range p.Pix {
			r, gr, b := m.Pix[4*j], m.Pix[4*j+1], m.Pix[4*j+2]
			at := int(r>>3)<<10 | int(gr>>3)<<5 | int(b>>3)
			if nearest[at] == 0 {
				nearest[at] = uint8(1 + found[1:].Index(color.NRGBA{r, gr, b, 255}))
			}
			if c := nearest[at]; c != shown[j] {
				p.Pix[j], shown[j] = c, c
			}
		}
		shows := frameTime
		if i+step < len(times) {
			shows = times[i+step] - times[i]
		}
		g.Image, g.Delay = append(g.Image, p), append(g.Delay, shows)
		g.Disposal = append(g.Disposal, gif.DisposalNone)
	}
	return g
}

// alikeSide is how many places of a picture are compared along each side.
const alikeSide = 16

// Varied chooses pictures that differ most from each other, in the order in which they were taken. Those that are of one colour are
// not chosen.
func Varied(taken [][]byte, most int) ([][]byte, error) {
	var small []*image.NRGBA
	var from []int
	for i, data := range taken {
		m, err := decode(bytes.NewReader(data))
		if err != nil {
			return nil, err
		}
		b := m.Bounds()
		s := scaled(m, region{0, 0, float64(b.Dx()), float64(b.Dy())}, alikeSide, alikeSide).image()
		if !plainColour(s) {
			small, from = append(small, s), append(from, i)
		}
	}
	if len(small) == 0 {
		return nil, nil
	}
	chosen := map[int]bool{0: true}
	for len(chosen) < min(most, len(small)) {
		best, distance := -1, -1.
		for i := range small {
			least := math.Inf(1)
			for c := range chosen {
				least = min(least, unlike(small[i], small[c]))
			}
			if !chosen[i] && least > distance {
				best, distance = i, least
			}
		}
		chosen[best] = true
	}
	var list [][]byte
	for i, at := range from {
		if chosen[i] {
			list = append(list, taken[at])
		}
	}
	return list, nil
}

// unlike is how much two pictures of a size differ, from 0 to 255.
func unlike(a, b *image.NRGBA) float64 {
	sum := 0.
	for i := range a.Pix {
		sum += math.Abs(float64(a.Pix[i]) - float64(b.Pix[i]))
	}
	return sum / float64(len(a.Pix))
}

func plainColour(m *image.NRGBA) bool {
	lo, hi := 255, 0
	for i := 0; i < len(m.Pix); i += 4 {
		v := int(m.Pix[i])*2 + int(m.Pix[i+1])*5 + int(m.Pix[i+2])
		lo, hi = min(lo, v/8), max(hi, v/8)
	}
	return hi-lo < 12
}
