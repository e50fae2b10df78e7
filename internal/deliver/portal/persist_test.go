package portal

import (
	"context"
	"errors"
	"io"
	"net/http"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"havvel/internal/rulebook"
)

// TestPersist: what may be made again is, with waits, and not for ever; what may not is made once.
func TestPersist(t *testing.T) {
	cut := func(w http.ResponseWriter) {
		c, _, err := w.(http.Hijacker).Hijack()
		if err == nil {
			c.Close()
		}
	}
	busy := func(status int, after string) func(http.ResponseWriter) {
		return func(w http.ResponseWriter) {
			if after != "" {
				w.Header().Set("Retry-After", after)
			}
			w.WriteHeader(status)
		}
	}
	for name, c := range map[string]struct {
		step  rulebook.Step
		fails int // how many requests fail before one succeeds
		fail  func(http.ResponseWriter)
		tries int32
		says  string
	}{
		"a connection that breaks once":    {rulebook.Step{}, 1, cut, 2, ""},
		"one that always breaks":           {rulebook.Step{}, 99, cut, mostTries, "the connection broke off"},
		"an upload that breaks, by PUT":    {rulebook.Step{Method: "PUT", File: "archive"}, 2, cut, 3, ""},
		"a POST that breaks is made once":  {rulebook.Step{Method: "POST"}, 1, cut, 1, "the connection broke off"},
		"a POST that may be made again":    {rulebook.Step{Method: "POST", Again: true}, 1, cut, 2, ""},
		"a POST that was not taken at all": {rulebook.Step{Method: "POST"}, 1, busy(429, ""), 2, ""},
		"an error inside, once":            {rulebook.Step{}, 1, busy(500, ""), 2, ""},
		"an error inside a POST":           {rulebook.Step{Method: "POST"}, 1, busy(500, ""), 1, "status 500"},
		"a portal that asks for a second":  {rulebook.Step{}, 1, busy(503, "1"), 2, ""},
		"a portal that asks for an hour":   {rulebook.Step{}, 1, busy(503, "3600"), 1, "status 503"},
		"a no is a no":                     {rulebook.Step{}, 1, busy(422, ""), 1, "status 422"},
		"an upload is whole in the last try": {rulebook.Step{Method: "PUT",
			Parts: []rulebook.Part{{Name: "build", File: "archive", Type: "application/zip"}}}, 1, cut, 2, ""},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			var tries atomic.Int32
			s := host(t, func(w http.ResponseWriter, r *http.Request) {
				body, _ := io.ReadAll(r.Body)
				if n := tries.Add(1); int(n) <= c.fails {
					c.fail(w)
					return
				}
				if (c.step.File != "" || c.step.Parts != nil) && !strings.Contains(string(body), "hello world") {
					t.Errorf("the body is %q", body)
				}
			})
			s.pause = 5 * time.Millisecond
			began := time.Now()
			_, err := s.Run(context.Background(), get(c.step), 0)
			if (err == nil) != (c.says == "") || err != nil && !strings.Contains(err.Error(), c.says) || tries.Load() != c.tries {
				t.Errorf("after %d tries: %v", tries.Load(), err)
			}
			if strings.Contains(name, "a second") && time.Since(began) < time.Second {
				t.Error("it did not wait as long as the portal asked for")
			}
		})
	}
}

// TestPersistStops: Ctrl-C ends the waiting at once.
func TestPersistStops(t *testing.T) {
	s := host(t, func(w http.ResponseWriter, _ *http.Request) { w.WriteHeader(503) })
	s.pause = time.Minute
	ctx, stop := context.WithTimeout(context.Background(), 200*time.Millisecond)
	defer stop()
	began := time.Now()
	if _, err := s.Run(ctx, get(rulebook.Step{}), 0); !errors.Is(err, context.DeadlineExceeded) || time.Since(began) > 5*time.Second {
		t.Errorf("%v after %v", err, time.Since(began))
	}
}
