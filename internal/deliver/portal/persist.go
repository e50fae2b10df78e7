package portal

import (
	"context"
	"errors"
	"net/http"
	"slices"
	"strconv"
	"time"

	"github.com/cenkalti/backoff/v5"

	"havvel/internal/deliver/neterr"
	"havvel/internal/rulebook"
)

// How often and how long a request is made again.
const (
	mostTries   = 4
	longestTry  = 90 * time.Second // of all tries together, but for the first
	longestWait = 30 * time.Second // that a portal may ask for
)

// persist makes a step's request, and makes it again where that is safe: after the connection broke off, or when the portal
// is busy. The waits grow, and differ by chance; a portal may name its own (Retry-After, RFC 9110 section 10.2.3).
func (s *Session) persist(ctx context.Context, step *rulebook.Step, a *Answer) error {
	var last error
	waits := backoff.NewExponentialBackOff()
	waits.InitialInterval = s.pause
	_, err := backoff.Retry(ctx, func() (struct{}, error) {
		last = s.step(ctx, step, a)
		if last == nil {
			return struct{}{}, nil
		}
		if !safeAgain(step, last) {
			return struct{}{}, backoff.Permanent(last)
		}
		var refused *Refused
		if errors.As(last, &refused) && refused.after > 0 {
			if refused.after > longestWait {
				return struct{}{}, backoff.Permanent(last)
			}
			return struct{}{}, backoff.RetryAfter(int(refused.after / time.Second))
		}
		return struct{}{}, last
	}, backoff.WithBackOff(waits), backoff.WithMaxTries(mostTries), backoff.WithMaxElapsedTime(longestTry))
	if err != nil && ctx.Err() != nil {
		return context.Cause(ctx)
	}
	if err != nil {
		return last
	}
	return nil
}

// safeAgain reports whether a request that failed may be made again: whatever the portal did with it, doing it twice is the
// same (RFC 9110 section 9.2.2), or it did nothing.
func safeAgain(step *rulebook.Step, err error) bool {
	same := step.Again || slices.Contains([]string{http.MethodGet, http.MethodHead, http.MethodPut, http.MethodDelete}, step.Method)
	var refused *Refused
	if errors.As(err, &refused) {
		switch refused.Status {
		case http.StatusTooManyRequests:
			return true // it did nothing
		case http.StatusInternalServerError, http.StatusBadGateway, http.StatusServiceUnavailable, http.StatusGatewayTimeout:
			return same
		}
		return false
	}
	var gone *Unreachable
	if !errors.As(err, &gone) || !same {
		return false
	}
	return !neterr.Nobody(gone.Cause)
}

// retryAfter is how long a portal wants us to wait; 0 when it doesn't say.
func retryAfter(h http.Header) time.Duration {
	text := h.Get("Retry-After")
	if n, err := strconv.Atoi(text); err == nil && n > 0 {
		return time.Duration(n) * time.Second
	}
	if at, err := http.ParseTime(text); err == nil {
		return max(0, time.Until(at).Round(time.Second))
	}
	return 0
}
