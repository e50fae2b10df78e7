package progress

import (
	"fmt"
	"slices"
	"testing"
)

type heard []string

func (h *heard) Begin(what string, total int64) {
	*h = append(*h, fmt.Sprint("begin ", what, " ", total))
}
func (h *heard) Advance(n int64) { *h = append(*h, fmt.Sprint(n)) }
func (h *heard) End()            { *h = append(*h, "end") }

// TestLanes: two pieces of work are one, whose sums are right whichever begins and ends first, and nothing is shown while words are written.
func TestLanes(t *testing.T) {
	var h heard
	l := Beside(&h)
	one, other := l.Lane(), l.Lane()
	one.Begin("sending", 100)
	one.Advance(40)
	other.Begin("packing", 10)
	other.Advance(5)
	l.Between(func() { h = append(h, "words") })
	one.End()
	other.Advance(5)
	other.End()
	l.Between(func() { h = append(h, "more words") })
	want := []string{
		"begin sending 100", "0", "40", "end", "begin sending, and 1 more 110", "40", "5", "end", "words", "begin sending, and 1 more 110", "45",
		"end", "begin packing 10", "5", "5", "end", "more words",
	}
	if !slices.Equal(h, want) {
		t.Errorf("%q\nwant %q", h, want)
	}
}
