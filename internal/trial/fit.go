package trial

import "math"

// Fit says how the game's canvas meets the window.
type Fit struct {
	Canvas    bool    `json:"canvas"`    // there is one
	Covers    float64 `json:"covers"`    // share of the window
	Outside   float64 `json:"outside"`   // share of the canvas that is outside of the window
	Overflow  bool    `json:"overflow"`  // the page is larger than the window, and can be scrolled
	Stretched float64 `json:"stretched"` // by how much the picture's ratio differs from the canvas's own; 0 is not at all
	Sharp     float64 `json:"sharp"`     // pixels of the canvas for each of the screen, along a side
}

func fitOf(s *state) Fit {
	f := Fit{Overflow: s.SW > s.VW+1 || s.SH > s.VH+1}
	c := s.Canvas
	if c == nil || c.W <= 0 || c.H <= 0 || s.VW <= 0 || s.VH <= 0 {
		return f
	}
	f.Canvas = true
	width := math.Min(c.X+c.W, s.VW) - math.Max(c.X, 0)
	height := math.Min(c.Y+c.H, s.VH) - math.Max(c.Y, 0)
	inside := math.Max(0, width) * math.Max(0, height)
	f.Covers = inside / (s.VW * s.VH)
	f.Outside = 1 - inside/(c.W*c.H)
	if c.BW > 0 && c.BH > 0 && s.DPR > 0 && !c.Handed { // a worker's canvas doesn't say how large it is
		if !c.Fitted {
			f.Stretched = math.Abs((c.W/c.H)/(c.BW/c.BH) - 1)
		}
		f.Sharp = c.BW / (c.W * s.DPR)
	}
	return f
}
