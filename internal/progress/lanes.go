package progress

import (
	"fmt"
	"slices"
	"sync"
)

// Lanes are pieces of work that go on at the same time, reported to one Reporter as one piece.
type Lanes struct {
	to Reporter

	mu    sync.Mutex
	busy  []*lane // in the order in which they began
	shown bool
}

// Beside returns lanes that report to a Reporter, which nobody else may use meanwhile.
func Beside(to Reporter) *Lanes { return &Lanes{to: to} }

// Lane returns a Reporter for work that goes on beside that of the other lanes.
func (l *Lanes) Lane() Reporter { return &lane{of: l} }

// Between does something, such as writing to the screen, while nothing is shown.
func (l *Lanes) Between(do func()) {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.hide()
	defer l.show()
	do()
}

func (l *Lanes) hide() {
	if l.shown {
		l.to.End()
	}
	l.shown = false
}

func (l *Lanes) show() {
	if len(l.busy) == 0 {
		return
	}
	what, done, total := l.busy[0].what, int64(0), int64(0)
	if more := len(l.busy) - 1; more > 0 {
		what = fmt.Sprintf("%s, and %d more", what, more)
	}
	for _, b := range l.busy {
		done, total = done+b.done, total+b.total
	}
	l.to.Begin(what, total)
	l.to.Advance(done)
	l.shown = true
}

// A lane is one of several pieces of work.
type lane struct {
	of          *Lanes
	what        string
	done, total int64
}

func (w *lane) Begin(what string, total int64) {
	w.of.mu.Lock()
	defer w.of.mu.Unlock()
	w.of.hide()
	w.what, w.done, w.total = what, 0, total
	w.of.busy = append(w.of.busy, w)
	w.of.show()
}

func (w *lane) Advance(n int64) {
	w.of.mu.Lock()
	defer w.of.mu.Unlock()
	w.done += n
	if w.of.shown && slices.Contains(w.of.busy, w) {
		w.of.to.Advance(n)
	}
}

func (w *lane) End() {
	w.of.mu.Lock()
	defer w.of.mu.Unlock()
	w.of.hide()
	w.of.busy = slices.DeleteFunc(w.of.busy, func(o *lane) bool { return o == w })
	w.of.show()
}
