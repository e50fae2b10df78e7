package trial

import (
	"bytes"
	"image"
	_ "image/jpeg" // what a screencast gives
	"sync"
	"time"

	"golang.org/x/image/draw"
)

// A sight is what could be seen in a window, from small pictures of it.
type sight struct {
	mu       sync.Mutex
	last     map[string]*image.RGBA // by the picture's format: small and large pictures are drawn in other ways, and never compared
	changed  []time.Time            // of each place, when it changed last
	seen     time.Time              // when the last picture came
	spread   float64                // share of places that differ from the commonest colour
	brights  int                    // the brightest, from 0 to 255
	first    time.Time              // when something could be seen first
	pictures int
}

// Sizes and bounds of what is seen.
const (
	sightWidth = 160 // CSS pixels that a window is drawn as
	differs    = 20  // of 255, from which on two places are not the same: pictures are compressed
	leastSeen  = 0.0005
	leastLight = 18
)

// look takes a picture of the window, JPEG or PNG.
func (s *sight) look(data []byte, at time.Time) {
	m, format, err := image.Decode(bytes.NewReader(data))
	if err != nil {
		return
	}
	b := m.Bounds()
	height := max(1, b.Dy()*sightWidth/max(1, b.Dx()))
	now := image.NewRGBA(image.Rect(0, 0, sightWidth, height))
	if b.Dx() == sightWidth {
		draw.Draw(now, now.Bounds(), m, b.Min, draw.Src)
	} else {
		draw.BiLinear.Scale(now, now.Bounds(), m, b, draw.Src, nil)
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	s.pictures++
	s.seen = at
	s.measure(now)
	if s.visible() && s.first.IsZero() {
		s.first = at
	}
	if len(s.changed) != sightWidth*height { // the first, or the window was turned
		s.last, s.changed = map[string]*image.RGBA{}, make([]time.Time, sightWidth*height)
	}
	last := s.last[format]
	s.last[format] = now
	if last == nil {
		return
	}
	for i := range s.changed {
		for c := range 3 {
			d := int(now.Pix[4*i+c]) - int(last.Pix[4*i+c])
			if d > differs || d < -differs {
				s.changed[i] = at
				break
			}
		}
	}
}

func (s *sight) measure(m *image.RGBA) {
	counts := map[[3]uint8]int{}
	brightest, most := uint8(0), 0
	for i := 0; i < len(m.Pix); i += 4 {
		r, g, b := m.Pix[i], m.Pix[i+1], m.Pix[i+2]
		brightest = max(brightest, r, g, b)
		k := [3]uint8{r >> 4, g >> 4, b >> 4}
		counts[k]++
		most = max(most, counts[k])
	}
	s.brights, s.spread = int(brightest), 1-float64(most)/float64(len(m.Pix)/4)
}

func (s *sight) visible() bool { return s.spread >= leastSeen && s.brights >= leastLight }

// since is the share of the window that has changed since a time.
func (s *sight) since(t time.Time) float64 {
	s.mu.Lock()
	defer s.mu.Unlock()
	n := 0
	for _, at := range s.changed {
		if at.After(t) {
			n++
		}
	}
	return float64(n) / float64(max(1, len(s.changed)))
}

// moved are the places of a grid in which something changed within the last while.
func (s *sight) moved(wide, high int) []bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	list := make([]bool, wide*high)
	rows := len(s.changed) / sightWidth
	recently := s.seen.Add(-while)
	for i, at := range s.changed {
		if at.After(recently) {
			list[min(high-1, i/sightWidth*high/max(1, rows))*wide+i%sightWidth*wide/sightWidth] = true
		}
	}
	return list
}

// age is how long ago the last picture came; longer than anything where none has come.
func (s *sight) age() time.Duration {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.seen.IsZero() {
		return time.Hour
	}
	return time.Since(s.seen)
}

// many is how many pictures have come.
func (s *sight) many() int {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.pictures
}

// told is whether something can be seen now, and since when there was something.
func (s *sight) told() (visible bool, first time.Time) {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.visible(), s.first
}
