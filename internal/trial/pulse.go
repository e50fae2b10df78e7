package trial

import "time"

// A pulse tells how much of the time that passed the browser was given to work: time in which its main threads waited for a processor
// never counts against a game.
type pulse struct {
	browser int // its process
	began   time.Time
	last    time.Time
	waits   time.Duration // of the processes
	theft   time.Duration
	own     time.Duration
	Known   bool // the system tells it; where it doesn't, all time counts
}

func newPulse(browser int) *pulse {
	p := &pulse{browser: browser, began: time.Now()}
	p.last = p.began
	p.waits, p.Known = waited(browser)
	p.theft = stolen()
	return p
}

// beat returns the time since the beginning, and how much of it was the browser's own.
func (p *pulse) beat() (wall, own time.Duration) {
	now := time.Now()
	passed := now.Sub(p.last)
	waits, ok := waited(p.browser)
	theft := stolen()
	lost := max(0, theft-p.theft)
	if ok && waits > p.waits {
		lost += waits - p.waits
	}
	if ok { // processes that ended take their time with them
		p.waits = waits
	}
	p.theft, p.last = theft, now
	p.own += max(0, passed-lost)
	return now.Sub(p.began), p.own
}
