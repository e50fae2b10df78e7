package trial

import (
	"testing"
	"testing/synctest"
	"time"
)

// TestPulse: time that a process waits counts once, however many of its kind wait; and where the system tells nothing, a clock of our own
// is never late on an idle machine.
func TestPulse(t *testing.T) {
	before := map[waiter]time.Duration{{1, "browser"}: time.Second, {2, "renderer"}: 0, {3, "renderer"}: 0}
	after := map[waiter]time.Duration{{1, "browser"}: 2 * time.Second, {2, "renderer"}: 3 * time.Second, {3, "renderer"}: 4 * time.Second}
	if lost := lostSince(before, after); lost != 5*time.Second {
		t.Errorf("%s were lost", lost)
	}
	synctest.Test(t, func(t *testing.T) {
		p := &pulse{began: time.Now(), last: time.Now(), stop: make(chan struct{})}
		go p.tick()
		time.Sleep(5 * time.Second)
		if late := p.late.Load(); late != 0 {
			t.Errorf("a clock that is never late is late by %s", time.Duration(late))
		}
		p.end()
	})
}
