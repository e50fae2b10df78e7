package trial

import (
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
