package trial

import (
	"bytes"
	"image"
	"image/png"
	"os"
	"testing"
	"time"
)

// TestFirstScreens: real pictures of the demo game, which differ or are the same, also when they were compressed again.
func TestFirstScreens(t *testing.T) {
	read := func(name string) *First {
		data, err := os.ReadFile("../demo/page/" + name)
		if err != nil {
			t.Fatal(err)
		}
		f, ok := screenOf(data, &sight{})
		if !ok {
			t.Fatalf("%s is no picture", name)
		}
		return &f
	}
	one, other := read("shot-1.jpg"), read("shot-2.jpg")
	if share, ok := one.differs(other); !ok || share <= mostApart {
		t.Errorf("two screens differ in %.2f of their places, %v", share, ok)
	}
	if share, ok := one.differs(read("shot-1.jpg")); !ok || share != 0 {
		t.Errorf("a screen differs from itself in %.2f of its places, %v", share, ok)
	}
	for i := range one.Moves {
		one.Moves[i] = i%8 != 0
	}
	if _, ok := one.differs(other); ok {
		t.Error("a screen of which nearly all moves is compared")
	}
}

// TestMoved: places of a grid that changed lately.
func TestMoved(t *testing.T) {
	now := time.Now()
	s := &sight{changed: make([]time.Time, sightWidth*90), seen: now}
	s.changed[sightWidth*89+159], s.changed[0] = now, now.Add(-time.Minute)
	moved := s.moved(40, 22)
	for i, m := range moved {
		if m != (i == len(moved)-1) {
			t.Fatalf("place %d of %d: %v", i, len(moved), m)
		}
	}
}

// TestLives: a picture in which something moves all the time lives; one that is drawn once, however late, doesn't.
func TestLives(t *testing.T) {
	start := time.Now()
	for name, c := range map[string]struct {
		light func(i int) uint8 // of the i-th picture, ten in a second
		lives bool
	}{
		"moves":       {func(i int) uint8 { return uint8(i % 2 * 200) }, true},
		"stands":      {func(int) uint8 { return 90 }, false},
		"comes late":  {func(i int) uint8 { return uint8(i / 20 * 200) }, false},
		"has stopped": {func(i int) uint8 { return uint8(i % 2 * max(0, 200-50*i)) }, false},
	} {
		s := &sight{}
		for i := range 30 {
			m := image.NewGray(image.Rect(0, 0, sightWidth, 90))
			for j := range m.Pix {
				m.Pix[j] = c.light(i)
			}
			var b bytes.Buffer
			if err := png.Encode(&b, m); err != nil {
				t.Fatal(err)
			}
			s.look(b.Bytes(), start.Add(time.Duration(i)*100*time.Millisecond))
		}
		if got := s.living(); (got == 1) != c.lives || (got == 0) == c.lives {
			t.Errorf("%s: %.2f of it lives", name, got)
		}
	}
}
