package term

import (
	"fmt"
	"strings"
	"time"

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
	screen      *Screen
	what        string
	done, total int64
	began, last time.Time
	shown       bool
}

const barWidth = 28

func (b *bar) Begin(what string, total int64) {
	*b = bar{screen: b.screen, what: what, total: total, began: time.Now()}
}

func (b *bar) Advance(n int64) {
	b.done += n
	now := time.Now()
	if now.Sub(b.began) < 200*time.Millisecond || now.Sub(b.last) < 80*time.Millisecond {
		return
	}
	b.last, b.shown = now, true
	share := 1.0
	if b.total > 0 {
		share = min(1, float64(b.done)/float64(b.total))
	}
	full := int(share * barWidth)
	line := fmt.Sprintf("%s %s%s %s of %s", b.what, strings.Repeat("█", full), strings.Repeat("░", barWidth-full), settings.Size(b.done), settings.Size(b.total))
	if left := now.Sub(b.began).Seconds() * (1 - share) / max(share, 0.001); share > 0.05 && left >= 1 {
		line += ", " + Span(time.Duration(left*float64(time.Second))) + " left"
	}
	fmt.Fprintf(b.screen.err, "\r\x1b[K%s", line)
}

func (b *bar) End() {
	if b.shown {
		fmt.Fprint(b.screen.err, "\r\x1b[K")
		b.shown = false
	}
}

// Span writes a length of time as people say it: "3s", "1m 20s", "2h 5m". Parts that are nothing are left out.
func Span(d time.Duration) string {
	d = d.Round(time.Second)
	if d >= time.Hour {
		return parts(int(d.Hours()), "h", int(d.Minutes())%60, "m")
	}
	return parts(int(d.Minutes()), "m", int(d.Seconds())%60, "s")
}

func parts(large int, unit string, small int, smallUnit string) string {
	switch {
	case large == 0:
		return fmt.Sprintf("%d%s", small, smallUnit)
	case small == 0:
		return fmt.Sprintf("%d%s", large, unit)
	}
	return fmt.Sprintf("%d%s %d%s", large, unit, small, smallUnit)
}
