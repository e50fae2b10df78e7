package trial

import (
	"sync"
	"sync/atomic"
	"time"
)

// A pulse tells how much of the time that passed the browser was given to work: time in which its main threads waited for a processor
// never counts against a game.
type pulse struct {
	mu      sync.Mutex
	browser int // its process
	began   time.Time
	last    time.Time
	waits   map[waiter]time.Duration
	theft   time.Duration
	own     time.Duration
	Known   bool         // the system tells it; where it doesn't, a clock of our own does
	late    atomic.Int64 // how late that clock's ticks came, in nanoseconds, added up
	seen    int64
	stop    chan struct{}
}

// A waiter is one process of a browser, and what it does.
type waiter struct {
	process int
	kind    string
}

func newPulse(browser int) *pulse {
	p := &pulse{browser: browser, began: time.Now()}
	p.last = p.began
	p.waits, p.Known = waits(browser)
	p.theft = stolen()
	p.stop = make(chan struct{})
	if !p.Known {
		go p.tick()
	}
	return p
}

// everyTick is the time between two ticks; systems may round it a little.
const (
	everyTick = 20 * time.Millisecond
	rounding  = 12 * time.Millisecond
)

// tick measures how late this program gets the processor itself. A browser on the same machine waits about as long.
func (p *pulse) tick() {
	for {
		began := time.Now()
		select {
		case <-p.stop:
			return
		case <-time.After(everyTick):
			p.late.Add(int64(max(0, time.Since(began)-everyTick-rounding)))
		}
	}
}

// end stops the clock.
func (p *pulse) end() { close(p.stop) }

// A mark is one time, by both clocks.
type mark struct{ wall, own time.Duration }

// now is the present time.
func (p *pulse) now() mark {
	wall, own := p.beat()
	return mark{wall, own}
}

// since is how much time has passed since a mark, and how much of it was the browser's own.
func (p *pulse) since(m mark) (wall, own time.Duration) {
	wall, own = p.beat()
	return wall - m.wall, own - m.own
}

// beat returns the time since the beginning, and how much of it was the browser's own.
func (p *pulse) beat() (wall, own time.Duration) {
	p.mu.Lock()
	defer p.mu.Unlock()
	now := time.Now()
	passed := now.Sub(p.last)
	waited, ok := waits(p.browser)
	theft := stolen()
	lost := max(0, theft-p.theft)
	if ok {
		lost += lostSince(p.waits, waited)
		p.waits = waited
	}
	if !p.Known {
		late := p.late.Load()
		lost += time.Duration(late - p.seen)
		p.seen = late
	}
	p.theft, p.last = theft, now
	p.own += max(0, passed-lost)
	return now.Sub(p.began), p.own
}

// lostSince is what was waited between two looks: for each kind of process, by the one that waited longest.
func lostSince(before, after map[waiter]time.Duration) (lost time.Duration) {
	most := map[string]time.Duration{}
	for w, d := range after {
		most[w.kind] = max(most[w.kind], d-before[w])
	}
	for _, d := range most {
		lost += d
	}
	return lost
}
