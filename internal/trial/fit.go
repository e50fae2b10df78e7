package trial

import (
	"bytes"
	"image"
	"image/color"
	"math"
)

// Fit says how the game's picture meets the window.
type Fit struct {
	Canvas    bool    `json:"canvas"`    // there is one
	Covers    float64 `json:"covers"`    // share of the window that is picture, without bars inside or around the canvas
	Outside   float64 `json:"outside"`   // share of the canvas that is outside of the window
	Overflow  bool    `json:"overflow"`  // the page is larger than the window, and can be scrolled
	Stretched float64 `json:"stretched"` // by how much the picture's ratio differs from the canvas's own; 0 is not at all
	Sharp     float64 `json:"sharp"`     // pixels of the canvas for each of the screen, along a side
	Bars      float64 `json:"bars"`      // share of the canvas that is bars, drawn at two opposite sides
}

// fitOf measures; picture (PNG) is the window, or nil where there is none.
func fitOf(s *state, picture []byte) Fit {
	f := Fit{Overflow: s.SW > s.VW+1 || s.SH > s.VH+1}
	if s.Canvas == nil || s.Canvas.W <= 0 || s.Canvas.H <= 0 || s.VW <= 0 || s.VH <= 0 {
		return f
	}
	c := *s.Canvas
	f.Canvas = true
	if c.BW > 0 && c.BH > 0 && s.DPR > 0 && !c.Handed { // a worker's canvas doesn't say how large it is
		switch c.Fit {
		case "contain", "scale-down":
			c.shrink()
		case "cover", "none": // what is seen is cut off at the element's edges
		default:
			f.Stretched = math.Abs((c.W/c.H)/(c.BW/c.BH) - 1)
		}
		f.Sharp = c.BW / (c.W * s.DPR)
	}
	width := math.Min(c.X+c.W, s.VW) - math.Max(c.X, 0)
	height := math.Min(c.Y+c.H, s.VH) - math.Max(c.Y, 0)
	inside := math.Max(0, width) * math.Max(0, height)
	f.Covers = inside / (s.VW * s.VH)
	f.Outside = 1 - inside/(c.W*c.H)
	if m, _, err := image.Decode(bytes.NewReader(picture)); err == nil && inside > 0 {
		scale := float64(m.Bounds().Dx()) / s.VW
		at := func(v float64) int { return int(math.Round(v * scale)) }
		x, y := math.Max(c.X, 0), math.Max(c.Y, 0)
		f.Bars = bars(m, image.Rect(at(x), at(y), at(x+width), at(y+height)).Intersect(m.Bounds()))
		f.Covers *= 1 - f.Bars
	}
	return f
}

// shrink makes the element as large as what is seen of the picture in it, which keeps its ratio.
func (c *canvasState) shrink() {
	scale := math.Min(c.W/c.BW, c.H/c.BH)
	if c.Fit == "scale-down" {
		scale = math.Min(1, scale)
	}
	w, h := c.BW*scale, c.BH*scale
	c.X, c.Y, c.W, c.H = c.X+(c.W-w)/2, c.Y+(c.H-h)/2, w, h
}

// bars is the share of a part of a picture that is bars: stripes of one colour at two opposite sides, about as wide.
func bars(m image.Image, r image.Rectangle) float64 {
	if r.Dx() < 8 || r.Dy() < 8 {
		return 0
	}
	first := m.At(r.Min.X, r.Min.Y)
	plain := func(x0, y0, dx, dy, n int) bool {
		for i := range n {
			if !alike(m.At(x0+i*dx, y0+i*dy), first) {
				return false
			}
		}
		return true
	}
	count := func(most int, is func(i int) bool) int {
		for i := range most {
			if !is(i) {
				return i
			}
		}
		return most
	}
	left := count(r.Dx(), func(i int) bool { return plain(r.Min.X+i, r.Min.Y, 0, 1, r.Dy()) })
	right := count(r.Dx(), func(i int) bool { return plain(r.Max.X-1-i, r.Min.Y, 0, 1, r.Dy()) })
	top := count(r.Dy(), func(i int) bool { return plain(r.Min.X, r.Min.Y+i, 1, 0, r.Dx()) })
	bottom := count(r.Dy(), func(i int) bool { return plain(r.Min.X, r.Max.Y-1-i, 1, 0, r.Dx()) })
	return math.Max(pair(left, right, r.Dx()), pair(top, bottom, r.Dy()))
}

// leastBar is the least share of a side that a bar takes.
const leastBar = 0.04

// pair is the share of a side that two bars take together; 0 where they are too unlike to be bars, or all is of one colour.
func pair(a, b, side int) float64 {
	share := float64(a+b) / float64(side)
	if share >= 1 || min(a, b) < int(leastBar*float64(side)) || max(a, b)-min(a, b) > max(3, side/50) {
		return 0
	}
	return share
}

// alike reports whether two colours can't be told apart.
func alike(a, b color.Color) bool {
	r, g, bl, _ := a.RGBA()
	r2, g2, b2, _ := b.RGBA()
	far := func(x, y uint32) bool { return max(x, y)-min(x, y) > 0x0600 }
	return !far(r, r2) && !far(g, g2) && !far(bl, b2)
}
