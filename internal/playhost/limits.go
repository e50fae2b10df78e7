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
	guesses  = limit{"password", 6 * time.Second, 10}
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

func (l *limits) allow(of limit, who string, now time.Time) bool {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.list == nil {
		l.list = map[string]*asker{}
	}
	if len(l.list) >= mostAskers {
		for key, a := range l.list {
			if now.Sub(a.last) > time.Minute {
				delete(l.list, key)
			}
		}
	}
	key := of.name + " " + who
	a := l.list[key]
	if a == nil {
		a = &asker{left: rate.NewLimiter(rate.Every(of.every), of.burst)}
		l.list[key] = a
	}
	a.last = now
	return a.left.AllowN(now, 1)
}

// slow answers a request that comes too often, and reports whether it did.
func (h *Host) slow(w http.ResponseWriter, of limit, who string) bool {
	if h.limits.allow(of, who, h.options.Now()) {
		return false
	}
	w.Header().Set("Retry-After", "5")
	h.refuse(w, http.StatusTooManyRequests, "this comes too often; try again in a moment")
	return true
}
