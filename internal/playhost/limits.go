package playhost

import (
	"net/http"
	"sync"
	"time"

	"golang.org/x/time/rate"
)

// A limit is how often something may be asked for.
type limit struct {
	name  string
	every time.Duration // on the average
	burst int
}

// Of one round, session, or owner, from all sides together: the host keeps no addresses of visitors.
var (
	entrants = limit{"sessions", 200 * time.Millisecond, 300}
	batches  = limit{"events", 250 * time.Millisecond, 40}
	pictures = limit{"clip", 250 * time.Millisecond, 40}
	arrivals = limit{"builds", time.Second, 60}
)

// limits remembers who asked how often.
type limits struct {
	mu   sync.Mutex
	list map[string]*asker
}

type asker struct {
	left *rate.Limiter
	last time.Time
}

// mostAskers is how many are remembered; those that were quiet for a minute then go first.
const mostAskers = 20_000

// allow counts a request of somebody who was verified, and reports whether there was one left.
func (l *limits) allow(of limit, who string, now time.Time) bool {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.list == nil {
		l.list = map[string]*asker{}
	}
	key := of.name + " " + who
	a := l.list[key]
	if a == nil {
		l.room(now)
		a = &asker{left: rate.NewLimiter(rate.Every(of.every), of.burst)}
		l.list[key] = a
	}
	a.last = now
	return a.left.AllowN(now, 1)
}

// room forgets askers where there are too many: those that were quiet, and if that isn't enough, any.
func (l *limits) room(now time.Time) {
	if len(l.list) < mostAskers {
		return
	}
	for key, a := range l.list {
		if now.Sub(a.last) > time.Minute {
			delete(l.list, key)
		}
	}
	for key := range l.list {
		if len(l.list) < mostAskers*3/4 {
			return
		}
		delete(l.list, key)
	}
}

// spent reports whether somebody has none left, and counts nothing: those who were never verified leave no trace.
func (l *limits) spent(of limit, who string, now time.Time) bool {
	l.mu.Lock()
	defer l.mu.Unlock()
	a := l.list[of.name+" "+who]
	return a != nil && a.left.TokensAt(now) < 1
}

// slow answers a request that comes too often, and reports whether it did.
func (h *Host) slow(w http.ResponseWriter, of limit, who string) bool {
	if h.limits.allow(of, who, h.options.Now()) {
		return false
	}
	h.tooOften(w)
	return true
}

// tooOften answers a request that comes too often.
func (h *Host) tooOften(w http.ResponseWriter) {
	w.Header().Set("Retry-After", "5")
	h.refuse(w, http.StatusTooManyRequests, "this comes too often; try again in a moment")
}
