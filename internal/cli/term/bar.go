package term

import (
	"fmt"
	"strings"
	"sync"
	"time"

	"havvel/internal/inwords"
	"havvel/internal/progress"
	"havvel/internal/settings"
)

// Progress returns a reporter that draws a bar on standard error, or nothing where that is no terminal.
func (s *Screen) Progress() progress.Reporter {
	if !s.errIsDisplay {
		return progress.None
	}
	return &bar{screen: s}
}

// bar shows a piece of work once it has taken a moment, on one line that it clears at the end.
type bar struct {
	screen *Screen
	stop   chan bool
	ended  sync.WaitGroup

	mu          sync.Mutex
	what        string
	done, total int64
	began       time.Time
}

const (
	barWidth = 28
	barEvery = 120 * time.Millisecond
)

func (b *bar) Begin(what string, total int64) {
	b.what, b.total, b.done, b.began = what, total, 0, time.Now()
	b.stop = make(chan bool)
	b.ended.Go(b.run)
}

func (b *bar) Advance(n int64) {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.done += n
}

func (b *bar) End() {
	if b.stop != nil {
		close(b.stop)
		b.ended.Wait()
		b.stop = nil
	}
}

func (b *bar) run() {
	shown := false
	for {
		select {
		case <-time.After(barEvery):
			fmt.Fprint(b.screen.bars, "\r\x1b[K", guard{on: b.screen}.safe(b.line(time.Now())))
			shown = true
		case <-b.stop:
			if shown {
				fmt.Fprint(b.screen.bars, "\r\x1b[K")
			}
			return
		}
	}
}

func (b *bar) line(now time.Time) string {
	b.mu.Lock()
	defer b.mu.Unlock()
	share := 1.0
	if b.total > 0 {
		share = min(1, float64(b.done)/float64(b.total))
	}
	full := int(share * barWidth)
	line := fmt.Sprintf(
		"%s %s%s %s of %s",
		b.what,
		strings.Repeat("█", full),
		strings.Repeat("░", barWidth-full),
		settings.Size(b.done),
		settings.Size(b.total),
	)
	took := now.Sub(b.began)
	if left := time.Duration(took.Seconds() * (1 - share) / max(share, 0.001) * float64(time.Second)); took > time.Second && share > 0.02 &&
		left >= time.Second {
		line += ", " + inwords.Span(left) + " left"
	}
	return line
}
