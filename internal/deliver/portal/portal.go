// Package portal talks to a portal by the recipe in its rulebook: HTTP requests (RFC 9110), one a step.
// It knows no portal. What a delivery is, and what is written down of it, is left to deliver.
package portal

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"mime"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"time"

	"havvel/internal/progress"
	"havvel/internal/rulebook"
)

// A File is one that a step can send.
type File struct {
	Path  string
	Bytes int64
}

// A Session runs recipes of one portal.
type Session struct {
	Rules   *rulebook.Rulebook
	Address string // of the portal's interface
	Key     string // never in an error or a value
	Values  map[string]string
	Files   map[string]File // that steps can send, by the names that rulebooks use; may be nil
	Report  progress.Reporter

	client *http.Client
	pause  time.Duration // before a request is made again for the first time
}

// NewSession returns a session that knows the given values, by the names that rulebooks use.
func NewSession(rules *rulebook.Rulebook, address, key string, values map[string]string) *Session {
	s := &Session{Rules: rules, Address: address, Key: key, Values: map[string]string{}, Report: progress.None}
	for name, v := range values {
		s.Values[name] = v
	}
	s.Values["address"] = address
	s.client, s.pause = &http.Client{CheckRedirect: sameOrigin}, 500*time.Millisecond
	return s
}

// sameOrigin keeps a request, which may carry the key, on the host that it was meant for.
func sameOrigin(r *http.Request, via []*http.Request) error {
	if len(via) > 5 {
		return errors.New("it sends us from one address to the next")
	}
	if r.URL.Scheme != via[0].URL.Scheme || r.URL.Host != via[0].URL.Host {
		return fmt.Errorf("it sends us on to another host, %s", r.URL.Host)
	}
	return nil
}

// An Answer is what the portal said, in our words.
type Answer struct {
	State   string   // of the delivery; "" when no step told it
	Reasons []string // why it was refused
	Draft   string   // where its owner can look at it
	Link    string   // where everybody can
}

// Run goes through the steps of a recipe. A step with repeat is repeated only when wait is positive, and
// for that long at most; when that is over, the answer is the last one, without error. Errors are
// *Refused, *Unreachable or *Puzzled, or that of the context.
func (s *Session) Run(ctx context.Context, steps []rulebook.Step, wait time.Duration) (*Answer, error) {
	a := &Answer{}
	for i := range steps {
		if err := s.repeat(ctx, &steps[i], a, wait); err != nil {
			return nil, err
		}
	}
	return a, nil
}

// patience is how many requests in a row may fail while we wait for the portal's decision.
const patience = 5

func (s *Session) repeat(ctx context.Context, step *rulebook.Step, a *Answer, wait time.Duration) error {
	end := time.Now().Add(wait)
	for failed := 0; ; {
		err := s.persist(ctx, step, a)
		var gone *Unreachable
		if waiting := wait > 0 && step.Repeat != nil; err != nil && waiting && errors.As(err, &gone) && failed < patience {
			failed++
		} else if err != nil {
			return err
		} else {
			failed = 0
			if !waiting || slices.Contains(step.Repeat.Until, s.Values[step.Repeat.Value]) {
				return nil
			}
		}
		pause := time.Duration(step.Repeat.Every)
		if time.Now().Add(pause).After(end) {
			return err
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(pause):
		}
	}
}

// step makes one request and takes from its answer what the rulebook says.
func (s *Session) step(ctx context.Context, step *rulebook.Step, a *Answer) error {
	limit := time.Duration(step.Limit)
	if limit == 0 {
		limit = 30 * time.Second
	}
	ctx, stop := context.WithCancelCause(ctx)
	defer stop(nil)
	idle := time.AfterFunc(limit, func() { stop(errIdle) })
	defer idle.Stop()

	request, err := s.request(ctx, step, func() { idle.Reset(limit) })
	var local *fs.PathError
	if errors.As(err, &local) {
		return err
	}
	if err != nil {
		return &Puzzled{s.Rules.Name, step.Step, err.Error()}
	}
	response, err := s.client.Do(request)
	if err != nil {
		return s.unreachable(ctx, step, request.URL, err)
	}
	defer response.Body.Close()
	body, err := io.ReadAll(io.LimitReader(response.Body, 4<<20))
	if err != nil {
		return s.unreachable(ctx, step, request.URL, err)
	}
	answer := parseBody(response, body)
	if !slices.Contains(step.Expect, response.StatusCode) {
		return s.refused(step, response, answer)
	}
	return s.take(step, response.Header, answer, a)
}

var errIdle = errors.New("no answer in time")

// parseBody reads an answer's body as JSON, whatever its type says; nil when it is something else.
func parseBody(r *http.Response, body []byte) any {
	if kind, _, err := mime.ParseMediaType(r.Header.Get("Content-Type")); err == nil && kind == "text/html" {
		return nil
	}
	decoder := json.NewDecoder(bytes.NewReader(body))
	decoder.UseNumber()
	var v any
	if decoder.Decode(&v) != nil {
		return nil
	}
	return v
}

func (s *Session) refused(step *rulebook.Step, r *http.Response, answer any) error {
	e := &Refused{Portal: s.Rules.Name, Step: step.Step, Status: r.StatusCode, Key: slices.Contains(s.Rules.Refusal.Key, r.StatusCode), after: retryAfter(r.Header)}
	for _, pointer := range s.Rules.Refusal.Words {
		for _, v := range find(answer, pointer) {
			if text := s.masked(textOf(v)); text != "" {
				e.Reasons = append(e.Reasons, text)
			}
		}
	}
	return e
}

func (s *Session) take(step *rulebook.Step, header http.Header, answer any, a *Answer) error {
	for name, where := range step.Take {
		var texts []string
		if field, ok := strings.CutPrefix(where, "header "); ok {
			if v := header.Get(field); v != "" {
				texts = []string{s.masked(v)}
			}
		} else {
			for _, v := range find(answer, where) {
				texts = append(texts, s.masked(textOf(v)))
			}
		}
		if name == "reasons" {
			a.Reasons = texts
			continue
		}
		if len(texts) == 0 || texts[0] == "" {
			if name == "draft" || name == "link" {
				continue // not every state has them
			}
			return &Puzzled{s.Rules.Name, step.Step, fmt.Sprintf("its answer has no %s (at %s)", name, where)}
		}
		s.Values[name] = texts[0]
	}
	return s.understand(step, a)
}

// understand brings the values that have a meaning for us into the answer.
func (s *Session) understand(step *rulebook.Step, a *Answer) error {
	if _, ok := step.Take["draft"]; ok {
		a.Draft = s.Values["draft"]
	}
	if _, ok := step.Take["link"]; ok {
		a.Link = s.Values["link"]
	}
	if _, ok := step.Take["state"]; ok {
		word := s.Values["state"]
		if a.State, ok = s.Rules.States[word]; !ok {
			return &Puzzled{s.Rules.Name, step.Step, fmt.Sprintf("it says %q, which [states] in the rulebook doesn't know", word)}
		}
	}
	return nil
}

// masked takes the key out of what a portal says. A key of a few letters is left: it would be found in words that
// have nothing to do with it.
func (s *Session) masked(text string) string {
	const shortest = 6
	if len(s.Key) < shortest {
		return text
	}
	return strings.ReplaceAll(text, s.Key, "(key)")
}

func (s *Session) unreachable(ctx context.Context, step *rulebook.Step, u *url.URL, err error) error {
	if cause := context.Cause(ctx); cause != nil && !errors.Is(cause, errIdle) {
		return cause
	}
	e := &Unreachable{Portal: s.Rules.Name, Step: step.Step, Host: u.Scheme + "://" + u.Host, Cause: err}
	if errors.Is(context.Cause(ctx), errIdle) {
		e.Cause = errIdle
	}
	return e
}
