// Package pace says how many requests to a host should be on their way at once: the more, the longer its answers take.
package pace

import (
	"net/http"
	"net/http/httptrace"
	"sync/atomic"
	"time"
)

// A Meter knows the shortest time that an answer took. The zero value is ready for use, by several goroutines.
type Meter struct{ shortest atomic.Int64 }

// Answer takes the time that a request takes until it is answered.
func (m *Meter) Answer(request func()) {
	began := time.Now()
	request()
	m.took(time.Since(began))
}

func (m *Meter) took(d time.Duration) {
	for {
		was := m.shortest.Load()
		if was != 0 && int64(d) >= was || m.shortest.CompareAndSwap(was, max(1, int64(d))) {
			return
		}
	}
}

// each is how much longer an answer takes for each request more.
const each = 8 * time.Millisecond

// Lanes is how many requests should be on their way: near ones on a short line, and up to far ones on a long line.
func (m *Meter) Lanes(near, far int) int {
	return int(min(int64(far), int64(near)+m.shortest.Load()/int64(each)))
}

// A Carrier carries HTTP requests, and takes the time of their answers.
type Carrier struct {
	*Meter
	By http.RoundTripper
}

// RoundTrip implements http.RoundTripper.
func (c Carrier) RoundTrip(r *http.Request) (*http.Response, error) {
	var began atomic.Int64
	start := time.Now()
	trace := &httptrace.ClientTrace{
		WroteRequest:         func(httptrace.WroteRequestInfo) { began.Store(int64(time.Since(start))) },
		GotFirstResponseByte: func() { c.took(time.Since(start) - time.Duration(began.Load())) },
	}
	return c.By.RoundTrip(r.WithContext(httptrace.WithClientTrace(r.Context(), trace)))
}
