package serve

import (
	"net/http"
	"sync"
	"time"
)

// pace imitates a line of a certain speed, which all answers share.
type pace struct {
	mu    sync.Mutex
	speed int64 // bytes a second
	free  time.Time
}

func newPace(speed int64) *pace {
	if speed <= 0 {
		return nil
	}
	return &pace{speed: speed}
}

// wait returns once n bytes have passed the line.
func (p *pace) wait(n int) {
	p.mu.Lock()
	now := time.Now()
	if p.free.Before(now) {
		p.free = now
	}
	p.free = p.free.Add(time.Duration(int64(n) * int64(time.Second) / p.speed))
	until := time.Until(p.free)
	p.mu.Unlock()
	time.Sleep(until)
}

// paced is an answer that goes over a slow line; without a pace it is as fast as it can be.
type paced struct {
	http.ResponseWriter
	pace *pace
}

// slice is how much passes a slow line at once, in bytes.
const slice = 16 << 10

// Write implements io.Writer.
func (w *paced) Write(p []byte) (int, error) {
	total := 0
	for len(p) > 0 {
		part := p[:min(slice, len(p))]
		w.pace.wait(len(part))
		n, err := w.ResponseWriter.Write(part)
		total += n
		if err != nil {
			return total, err
		}
		p = p[n:]
	}
	return total, nil
}

// Unwrap lets the server use what the answer beneath can do.
func (w *paced) Unwrap() http.ResponseWriter { return w.ResponseWriter }
