// Package portal talks to a portal by the recipe in its rulebook: HTTP requests (RFC 9110), one a step.
// It knows no portal. What a delivery is, and what is written down of it, is left to deliver.
package portal

import (
	"bytes"
	"context"
	"encoding/base64"
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

	Name, SHA256, Type string // of a file in a folder
}

// A Session runs recipes of one portal.
type Session struct {
	Rules   *rulebook.Rulebook
	Address string // of the portal's interface
	Key     string // never in an error or a value
	Values  map[string]string
	Files   map[string]File // that steps can send, by the names that rulebooks use; may be nil
	Folder  []File          // that is handed over, where it is a folder
	Report  progress.Reporter

	Whole    map[string]any // values that are JSON wherever a text is nothing but their name, such as {page.fields}
	Trace    Trace          // is told of requests and answers; may be nil
	Remember func(Progress) // is told how far an upload is, so that it can go on in another process; may be nil

	client   *http.Client
	pause    time.Duration // before a request is made again for the first time
	secrets  []string      // what must never be shown
	hidden   map[string]bool
	entered  bool
	location string   // of a resumable upload
	at       struct { // what was remembered last
		done   int
		values map[string]string
	}
}

// NewSession returns a session that knows the given values, by the names that rulebooks use.
func NewSession(rules *rulebook.Rulebook, address, key string, values map[string]string) *Session {
	s := &Session{Rules: rules, Address: address, Key: key, Values: map[string]string{}, Whole: map[string]any{}, Report: progress.None}
	for name, v := range values {
		s.Values[name] = v
	}
	s.Values["address"] = address
	s.hidden = map[string]bool{}
	s.hide("key", key)
	if id, secret, pair := strings.Cut(key, ":"); pair {
		s.Values["key.id"] = id
		s.hide("key.secret", secret)
	}
	s.hide("key.basic", base64.StdEncoding.EncodeToString([]byte(key)))
	s.client, s.pause = &http.Client{CheckRedirect: sameOrigin, Jar: newJar()}, 500*time.Millisecond
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

	Versions, States []string // of a list, side by side
}

// Run goes through the steps of a recipe. A step with repeat is repeated only when wait is positive, and
// for that long at most; when that is over, the answer is the last one, without error. Errors are
// *Refused, *Unreachable or *Puzzled, or that of the context.
func (s *Session) Run(ctx context.Context, steps []rulebook.Step, wait time.Duration) (*Answer, error) {
	a := &Answer{}
	if err := s.enter(ctx); err != nil {
		return nil, err
	}
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
		err := s.do(ctx, step, a)
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
	if step.Resumable {
		return s.resumable(ctx, step, a)
	}
	response, body, err := s.exchange(
		ctx,
		step,
		func(ctx context.Context, moved func()) (*http.Request, error) { return s.request(ctx, step, moved) },
	)
	if err != nil {
		return err
	}
	return s.judge(step, response, body, a)
}

// judge takes from an answer what the rulebook says.
func (s *Session) judge(step *rulebook.Step, response *http.Response, body []byte, a *Answer) error {
	answer := parseBody(response, body)
	if !slices.Contains(step.Expect, response.StatusCode) {
		return s.refused(step, response, answer)
	}
	return s.take(step, response.Header, answer, a)
}

// exchange makes a request and reads its answer. It ends when nothing moves for the step's limit.
func (s *Session) exchange(
	ctx context.Context,
	step *rulebook.Step,
	build func(ctx context.Context, moved func()) (*http.Request, error),
) (*http.Response, []byte, error) {
	limit := time.Duration(step.Limit)
	if limit == 0 {
		limit = 30 * time.Second
	}
	ctx, stop := context.WithCancelCause(ctx)
	defer stop(nil)
	idle := time.AfterFunc(limit, func() { stop(errIdle) })
	defer idle.Stop()

	request, err := build(ctx, func() { idle.Reset(limit) })
	var local *fs.PathError
	if errors.As(err, &local) {
		return nil, nil, err
	}
	if err != nil {
		return nil, nil, &Puzzled{s.Rules.Name, step.Step, err.Error()}
	}
	s.tell(step, request)
	response, err := s.client.Do(request)
	if err != nil {
		return nil, nil, s.unreachable(ctx, step, request.URL, err)
	}
	defer response.Body.Close()
	body, err := io.ReadAll(io.LimitReader(response.Body, 4<<20))
	if err != nil {
		return nil, nil, s.unreachable(ctx, step, request.URL, err)
	}
	if s.Trace != nil {
		text := signed.ReplaceAllString(s.masked(string(body)), "?(query)")
		if s.inside(step) {
			text = "(not shown: it holds credentials)"
		}
		s.Trace.Answered(response, text)
	}
	return response, body, nil
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
	e := &Refused{
		Portal: s.Rules.Name,
		Step:   step.Step,
		Status: r.StatusCode,
		Key:    slices.Contains(s.Rules.Refusal.Key, r.StatusCode),
		after:  retryAfter(r.Header),
	}
	for i, pointer := range s.Rules.Refusal.Words {
		var field rulebook.Pointer
		if i < len(s.Rules.Refusal.Fields) {
			field = s.Rules.Refusal.Fields[i]
		}
		for _, pair := range pointer.Beside(field, answer) {
			if text := s.masked(pair[0]); text != "" {
				e.Reasons, e.Fields = append(e.Reasons, text), append(e.Fields, s.masked(pair[1]))
			}
		}
	}
	return e
}

func (s *Session) take(step *rulebook.Step, header http.Header, answer any, a *Answer) error {
	for name, where := range step.Take {
		var texts []string
		if where.Header == "" {
			texts = where.Body.Texts(answer)
		} else if v := header.Get(where.Header); v != "" {
			texts = []string{v}
		}
		inside := s.inside(step)
		if !inside {
			for i := range texts {
				texts[i] = s.masked(texts[i])
			}
		}
		switch name {
		case "reasons":
			a.Reasons = texts
			continue
		case "versions":
			a.Versions = texts
			continue
		case "states":
			a.States = s.ours(texts)
			continue
		}
		if len(texts) == 0 || texts[0] == "" {
			if name == "draft" || name == "link" {
				continue // not every state has them
			}
			return &Puzzled{s.Rules.Name, step.Step, fmt.Sprintf("its answer has no %s (at %s)", name, where)}
		}
		s.Values[name] = texts[0]
		if inside {
			s.hide(name, texts[0])
		}
	}
	return s.understand(step, a)
}

// ours brings the portal's words for states to ours; those that the rulebook doesn't know stay.
func (s *Session) ours(words []string) []string {
	list := make([]string, len(words))
	for i, w := range words {
		if list[i] = s.Rules.States[w]; list[i] == "" {
			list[i] = w
		}
	}
	return list
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
