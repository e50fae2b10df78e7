package portal

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net/http"
	"net/http/httptrace"
	"net/url"
	"slices"
	"strconv"
	"sync/atomic"
	"time"

	"github.com/cenkalti/backoff/v5"

	"havvel/internal/deliver/neterr"
	"havvel/internal/rulebook"
	"havvel/internal/rulebook/expression"
	"havvel/internal/rulebook/place"
)

// How often and how long a request is made again.
const (
	mostTries   = 4
	longestTry  = 90 * time.Second // of all tries together, but for the first and for what the portal asks for
	longestWait = 5 * time.Minute  // that a portal may ask for, unless the step has a limit
	longestRead = 4 << 20          // of an answer
)

// persist makes a turn's request, and makes it again where that is safe: after the connection broke off, or when the portal
// is busy. The waits grow, and differ by chance; a portal may name its own (Retry-After, RFC 9110 section 10.2.3).
func (s *Session) persist(ctx context.Context, t *turn) error {
	waits := backoff.NewExponentialBackOff()
	waits.InitialInterval = s.pause
	for tries, began := 1, time.Now(); ; tries++ {
		err := s.attempt(ctx, t)
		if err == nil || ctx.Err() != nil || tries >= mostTries || !safeAgain(t.Step, err) {
			return err
		}
		pause := waits.NextBackOff()
		var refused *Refused
		if errors.As(err, &refused) && refused.after > 0 {
			if refused.after > waitable(t.Step) {
				return err
			}
			pause = refused.after
		} else if time.Since(began) > longestTry {
			return err
		}
		if err := s.sleep(ctx, t, pause); err != nil {
			return err
		}
	}
}

// waitable is how long a portal may have us wait.
func waitable(step *rulebook.Step) time.Duration {
	if step.Limit > 0 {
		return time.Duration(step.Limit)
	}
	return longestWait
}

// attempt makes a turn's request, and judges its answer.
func (s *Session) attempt(ctx context.Context, t *turn) error {
	if s.Pretend || s.Entered && t.inside {
		return s.pretend(ctx, t)
	}
	answer, response, err := s.exchange(ctx, t, func(ctx context.Context, moved func()) (*http.Request, error) {
		return s.request(ctx, t, moved)
	})
	if err != nil {
		return err
	}
	return s.judge(t, answer, response)
}

// pretend makes a request and doesn't send it. What its answer would give is named in its place.
func (s *Session) pretend(ctx context.Context, t *turn) error {
	r, err := s.request(ctx, t, func() {})
	if err != nil {
		return s.puzzled(t.Step, err)
	}
	if r.Body != nil {
		r.Body.Close()
	}
	t.taken = expression.Values{}
	for _, name := range append(keys(t.Take), keys(t.Set)...) {
		var v any = "(" + name + ")"
		if t.Take[name].Many() {
			v = []any{v}
		}
		t.taken[name] = v
		if !t.loop {
			s.Know(name, v)
		}
	}
	return nil
}

// safeAgain reports whether a request that failed may be made again: whatever the portal did with it, doing it twice is the
// same, or it did nothing.
func safeAgain(step *rulebook.Step, err error) bool {
	var refused *Refused
	if errors.As(err, &refused) {
		switch {
		case refused.busy:
			return true // it did nothing
		case refused.Status >= 500 && refused.Status != http.StatusNotImplemented:
			return repeatable(step)
		}
		return false
	}
	var lost *Lost
	if errors.As(err, &lost) {
		return repeatable(step)
	}
	var gone *Unreachable
	return errors.As(err, &gone) && !neterr.Nobody(gone.Cause)
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

var errIdle = errors.New("no answer in time")

// exchange makes a request and reads its answer. It ends when nothing moves for the step's limit. Where the key is refused and a new
// log-in may help, it logs in and makes the request once more.
func (s *Session) exchange(
	ctx context.Context, t *turn, build func(ctx context.Context, moved func()) (*http.Request, error),
) (*place.Answer, *http.Response, error) {
	for again := false; ; again = true {
		entered := s.entrances()
		answer, response, err := s.talk(ctx, t, build)
		if err != nil || again || t.inside || turned(t, response) || !s.keyRefused(answer.Status) || !s.renewable() {
			return answer, response, err
		}
		if err := s.renew(ctx, entered); err != nil {
			return nil, nil, err
		}
	}
}

// turned reports whether a write has led to its result: it was done, whatever became of that.
func turned(t *turn, r *http.Response) bool {
	return t.Method != http.MethodGet && r.Request.Method == http.MethodGet
}

// talk makes one request.
func (s *Session) talk(
	ctx context.Context, t *turn, build func(ctx context.Context, moved func()) (*http.Request, error),
) (*place.Answer, *http.Response, error) {
	limit := time.Duration(t.Limit)
	if limit == 0 {
		limit = 30 * time.Second
	}
	outer := ctx
	ctx, stop := context.WithCancelCause(ctx)
	defer stop(nil)
	idle := time.AfterFunc(limit, func() { stop(errIdle) })
	defer idle.Stop()
	var gone atomic.Bool // all of the request may be on its way, so the portal may have done what it says
	empty := false
	ctx = httptrace.WithClientTrace(ctx, &httptrace.ClientTrace{WroteHeaders: func() {
		if empty {
			gone.Store(true)
		}
	}})
	request, err := build(ctx, func() { idle.Reset(limit) })
	var local *fs.PathError
	if errors.As(err, &local) {
		return nil, nil, err
	}
	if err != nil {
		return nil, nil, s.puzzled(t.Step, err)
	}
	if err := s.authorize(request); err != nil {
		return nil, nil, s.puzzled(t.Step, err)
	}
	if empty = request.Body == nil || request.Body == http.NoBody; !empty {
		request.Body = &watched{request.Body, request.ContentLength, &gone}
	}
	client := *s.client
	client.CheckRedirect = func(r *http.Request, via []*http.Request) error { return s.redirect(t, r, via) }
	response, err := client.Do(request)
	if err != nil {
		return nil, nil, s.broken(outer, ctx, t, request, err, gone.Load())
	}
	defer response.Body.Close()
	body, err := s.read(t, response, func() { idle.Reset(limit) })
	if err != nil && !ended(t, response, err) {
		return nil, nil, s.broken(outer, ctx, t, request, err, true)
	}
	s.told(t, response, body)
	answer := &place.Answer{
		Status: response.StatusCode, Header: response.Header, Address: response.Request.URL.String(), Body: body[:min(len(body), longestRead)],
		Cut: len(body) > longestRead,
	}
	answer.Cookies = append(s.client.Jar.Cookies(response.Request.URL), response.Cookies()...)
	return answer, response, nil
}

// watched is a body that notes when its last byte was handed over, which is before that leaves.
type watched struct {
	io.ReadCloser
	left int64 // less than 0 where the length is not known
	gone *atomic.Bool
}

// Read implements io.Reader.
func (w *watched) Read(p []byte) (int, error) {
	n, err := w.ReadCloser.Read(p)
	if w.left -= int64(n); w.left == 0 || err == io.EOF {
		w.gone.Store(true)
	}
	return n, err
}

// ended reports whether a stream of events that broke off has told what there was to tell.
func ended(t *turn, r *http.Response, err error) bool {
	return err != nil && streams(r) && t.Repeat != nil
}

// redirect decides whether a redirect is followed. A write is never turned into a read, unless the step says that this is the result.
func (s *Session) redirect(t *turn, r *http.Request, via []*http.Request) error {
	first := via[0]
	if len(via) > 5 {
		return errors.New("it sends us from one address to the next")
	}
	write := first.Method != http.MethodGet && first.Method != http.MethodHead
	if write && r.Method != first.Method && t.Redirect != "result" {
		return http.ErrUseLastResponse
	}
	if first.URL.Scheme == r.URL.Scheme && first.URL.Host == r.URL.Host {
		return nil
	}
	if write && r.Method == first.Method {
		return http.ErrUseLastResponse
	}
	if s.guard(t.Step, r.URL) != nil || t.inside {
		return fmt.Errorf("it sends us on to another host, %s", r.URL.Host)
	}
	return nil
}

func (s *Session) broken(outer, ctx context.Context, t *turn, r *http.Request, err error, gone bool) error {
	if outer.Err() != nil {
		if gone && !repeatable(t.Step) {
			return &Lost{Portal: s.Rules.Name, Step: t.Step.Step, Host: hostOf(r.URL), Cause: context.Cause(outer)}
		}
		return context.Cause(outer)
	}
	if errors.Is(context.Cause(ctx), errIdle) {
		err = errIdle
	}
	write := r.Method != http.MethodGet && r.Method != http.MethodHead && r.Method != http.MethodOptions
	if write && gone && !neterr.Nobody(err) {
		return &Lost{Portal: s.Rules.Name, Step: t.Step.Step, Host: hostOf(r.URL), Cause: err}
	}
	return &Unreachable{Portal: s.Rules.Name, Step: t.Step.Step, Host: hostOf(r.URL), Cause: err}
}

func hostOf(u *url.URL) string { return u.Scheme + "://" + u.Host }

// read reads an answer, and of a stream of events as much as it takes to be enough.
func (s *Session) read(t *turn, r *http.Response, moved func()) ([]byte, error) {
	if !streams(r) {
		// a trickle without end is no answer: all of it must come within four times the limit on a silence
		return io.ReadAll(io.LimitReader(&paced{from: r.Body, until: time.Now().Add(4 * waitless(t.Step)), moved: moved}, longestRead+1))
	}
	var all []byte
	buffer := make([]byte, 16<<10)
	for len(all) <= longestRead {
		n, err := r.Body.Read(buffer)
		moved()
		all = append(all, buffer[:n]...)
		if err == io.EOF {
			return all, nil
		}
		if err != nil {
			return all, err
		}
		if t.Repeat == nil || !slices.Contains(all[max(0, len(all)-n):], '\n') {
			continue
		}
		trial := *t
		own := *t.a
		trial.a, trial.last = &own, &place.Answer{Status: r.StatusCode, Header: r.Header, Address: r.Request.URL.String(), Body: all}
		if s.take(&trial) != nil {
			continue
		}
		if enough, err := t.Repeat.Until.True(s.env(trial.judged())); err == nil && enough {
			return all, nil
		}
	}
	return all, nil
}

// waitless is the longest silence.
func waitless(step *rulebook.Step) time.Duration {
	if step.Limit > 0 {
		return time.Duration(step.Limit)
	}
	return 30 * time.Second
}

// paced ends with an error when reading takes too long in all.
type paced struct {
	from  io.Reader
	until time.Time
	moved func()
}

func (p *paced) Read(b []byte) (int, error) {
	if time.Now().After(p.until) {
		return 0, errIdle
	}
	n, err := p.from.Read(b)
	p.moved()
	return n, err
}
