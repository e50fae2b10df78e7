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
	last     map[string]shot // by the picture's format: small and large pictures are drawn in other ways
	latest   shot            // of these
	changed  []time.Time     // of each place, when it changed last
	lives    []uint8         // of each place, in which of the last spans it changed: a bit each, the last one lowest
	span     int64           // the last span, counted from any time
	seen     time.Time       // when the last picture came
	spread   float64         // share of places that differ from the commonest colour
	plain    int             // places that differ plainly from it
	brights  int             // the brightest, from 0 to 255
	first    time.Time       // when something could be seen first
	pictures int
}

// A shot is a picture of the window.
type shot struct {
	*image.RGBA
	at   time.Time
	kind string
}

// Sizes and bounds of what is seen.
const (
	sightWidth = 160 // CSS pixels that a window is drawn as
	differs    = 20  // of 255, from which on two places are not the same: pictures are compressed
	leastSeen  = 0.0005
	leastLight = 18
	leastPlain = 3 // places that differ plainly from the commonest colour, as a short word on a large page does
	span       = while / 8
)

// look takes a picture of the window, JPEG or PNG.
func (s *sight) look(data []byte, at time.Time) {
	m, format, err := image.Decode(bytes.NewReader(data))
	if err != nil {
		return
	}
	b := m.Bounds()
	s.mu.Lock()
	defer s.mu.Unlock()
	height := s.height(b)
	now := image.NewRGBA(image.Rect(0, 0, sightWidth, height))
	if b.Dx() == sightWidth && b.Dy() == height {
		draw.Draw(now, now.Bounds(), m, b.Min, draw.Src)
	} else {
		draw.BiLinear.Scale(now, now.Bounds(), m, b, draw.Src, nil)
	}
	s.pictures++
	s.seen = at
	s.measure(now)
	if s.visible() && s.first.IsZero() {
		s.first = at
	}
	if len(s.changed) != sightWidth*height { // the first, or the window was turned
		s.last, s.latest, s.changed = map[string]shot{}, shot{}, make([]time.Time, sightWidth*height)
		s.lives = make([]uint8, sightWidth*height)
	}
	s.turn(at)
	s.compare(shot{now, at, format})
}

// compare notes what changed since the last picture of the same kind, unless one of another kind has shown it meanwhile. The first one of a
// kind is compared with another kind, where only what differs on the whole counts.
func (s *sight) compare(now shot) {
	last, latest := s.last[now.kind], s.latest
	s.last[now.kind], s.latest = now, now
	if latest.RGBA == nil {
		return
	}
	var whole func(i int) bool
	if last.RGBA == nil {
		whole = apart(now.RGBA, latest.RGBA)
	}
	for i := range s.changed {
		p := now.Pix[4*i : 4*i+3]
		moved := unlike(p, latest.Pix[4*i:4*i+3])
		if whole != nil {
			moved = moved && whole(i)
		} else if moved || !s.changed[i].After(last.at) {
			moved = unlike(p, last.Pix[4*i:4*i+3])
		}
		if moved {
			s.changed[i] = now.at
			s.lives[i] |= 1
		}
	}
}

// apart compares two pictures cell by cell: it returns whether the cell of a place has another colour on the average.
func apart(a, b *image.RGBA) func(place int) bool {
	const side = 8
	wide := sightWidth / side
	cell := func(i int) int { return i/sightWidth/side*wide + i%sightWidth/side }
	places := len(a.Pix) / 4
	sums, n := make([][3]int, cell(places-1)+1), make([]int, cell(places-1)+1)
	for i := range places {
		c := cell(i)
		n[c]++
		for k := range 3 {
			sums[c][k] += int(a.Pix[4*i+k]) - int(b.Pix[4*i+k])
		}
	}
	return func(place int) bool {
		c := cell(place)
		for _, sum := range sums[c] {
			if max(sum, -sum) > differs/2*n[c] {
				return true
			}
		}
		return false
	}
}

// turn begins another span, where that is due.
func (s *sight) turn(at time.Time) {
	now := at.UnixNano() / int64(span)
	for i := range s.lives {
		s.lives[i] <<= min(8, max(0, now-s.span))
	}
	s.span = now
}

// living is the share of the window that changed early and late within the last while: what changes once doesn't live.
func (s *sight) living() float64 {
	s.mu.Lock()
	defer s.mu.Unlock()
	n := 0
	for _, spans := range s.lives {
		if spans&0x0f != 0 && spans&0xf0 != 0 {
			n++
		}
	}
	return float64(n) / float64(max(1, len(s.lives)))
}

// height is that of a picture as it is kept: as high as the last, as long as the window isn't turned. A screencast's pictures are a pixel
// or so higher or lower than they should be.
func (s *sight) height(b image.Rectangle) int {
	height := max(1, b.Dy()*sightWidth/max(1, b.Dx()))
	if last := len(s.changed) / sightWidth; last > 0 && 10*max(height-last, last-height) < last {
		return last
	}
	return height
}

func (s *sight) measure(m *image.RGBA) {
	counts := map[[3]uint8]int{}
	brightest, most, common := uint8(0), 0, m.Pix[:3]
	for i := 0; i < len(m.Pix); i += 4 {
		r, g, b := m.Pix[i], m.Pix[i+1], m.Pix[i+2]
		brightest = max(brightest, r, g, b)
		k := [3]uint8{r >> 4, g >> 4, b >> 4}
		counts[k]++
		if counts[k] > most {
			most, common = counts[k], m.Pix[i:i+3]
		}
	}
	s.brights, s.spread = int(brightest), 1-float64(most)/float64(len(m.Pix)/4)
	s.plain = 0
	for i := 0; i < len(m.Pix); i += 4 {
		if unlike(m.Pix[i:i+3], common) {
			s.plain++
		}
	}
}

// unlike reports whether two colours differ plainly.
func unlike(a, b []uint8) bool {
	for i := range a {
		if d := int(a[i]) - int(b[i]); d > differs || d < -differs {
			return true
		}
	}
	return false
}

func (s *sight) visible() bool {
	return s.spread >= leastSeen && s.brights >= leastLight || s.plain >= leastPlain
}

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

// dismiss forgets what has changed since a time, since it was our own doing: what comes is compared with the latest picture alone.
func (s *sight) dismiss(since time.Time) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for i, at := range s.changed {
		if at.After(since) {
			s.changed[i], s.lives[i] = time.Time{}, 0
		}
	}
	s.last = map[string]shot{s.latest.kind: s.latest}
}

// Bounds of what a press turns into another picture.
const (
	mostTurned = 0.8 // of what stood still before
	leastStood = 0.2 // of the window, that stood still
)

// turned remembers what has stood still since a time. The function that it returns reports whether most of that has changed since another.
func (s *sight) turned(still time.Time) func(since time.Time) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	stood, n := make([]bool, len(s.changed)), 0
	for i, at := range s.changed {
		if stood[i] = !at.After(still); stood[i] {
			n++
		}
	}
	return func(since time.Time) bool {
		s.mu.Lock()
		defer s.mu.Unlock()
		if len(s.changed) != len(stood) || float64(n) < leastStood*float64(len(stood)) {
			return false
		}
		other := 0
		for i, at := range s.changed {
			if stood[i] && at.After(since) {
				other++
			}
		}
		return float64(other) >= mostTurned*float64(n)
	}
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
