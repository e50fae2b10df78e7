package portal

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"net/http"
	"slices"

	"havvel/internal/rulebook"
	"havvel/internal/rulebook/expression"
)

// settle finds out what happened to a write whose answer was lost, by asking the portal, which was asked before, too. done: the portal
// shows the version in another way than before, and what the answer would have given is known. Not done, without an error: what the answer
// would have given isn't there. Where nobody can tell, the error is lost: a write that gives nothing may leave what is shown as it was.
func (s *Session) settle(ctx context.Context, t *turn, lost *Lost) (done bool, err error) {
	if t.seen == "" || ctx.Err() != nil {
		return false, lost
	}
	known, state, now := s.show(ctx, t)
	switch {
	case now == t.seen && len(wants(t)) > 0:
		return false, nil
	case now == "", now == t.seen, known == nil:
		return false, lost
	}
	t.taken = known
	if state != "" {
		t.a.State = state
	}
	for name, v := range known {
		s.learn(t, name, v)
	}
	return true, nil
}

// sight is what the portal shows of the version before a write that can't be made twice; "" where the rulebook has no way to ask.
func (s *Session) sight(ctx context.Context, t *turn) (string, error) {
	_, _, seen := s.show(ctx, t)
	if ctx.Err() != nil {
		return "", context.Cause(ctx)
	}
	return seen, nil
}

// show asks the portal for the version that a step is about: by [[find]], where that gives what the step's answer gives; by [[follow]]
// for a step whose answer tells a state and no more; by [[list]] for one whose answer gives nothing. seen is a text that is the same as
// long as the portal shows the same; "" when it can't be asked.
func (s *Session) show(ctx context.Context, t *turn) (known expression.Values, state, seen string) {
	if t.loop {
		return nil, "", ""
	}
	wanted := wants(t)
	switch r := s.Rules; {
	case len(r.Find) > 0 && len(wanted) > 0 && subset(wanted, takes(r.Find)):
		known, state, told := s.look(ctx, r.Find)
		return known, state, sighted(told, known, state)
	case len(wanted) > 0:
	case len(r.Follow) > 0 && s.knows(r.Keep) && slices.Contains(keys(t.Take), "state"):
		known, state, told := s.look(ctx, r.Follow)
		return known, state, sighted(told && known != nil, state)
	case len(r.List) > 0 && len(t.Take) == 0:
		a := &Answer{}
		err := s.walk(ctx, r.List, asking(a))
		return expression.Values{}, "", sighted(err == nil, a.Versions)
	}
	return nil, "", ""
}

// sighted is a short text for what was seen.
func sighted(told bool, what ...any) string {
	data, err := json.Marshal(what)
	if !told || err != nil {
		return ""
	}
	sum := sha256.Sum256(data)
	return hex.EncodeToString(sum[:8])
}

// wants are the values without which later steps can't go on.
func wants(t *turn) []string {
	var list []string
	for _, name := range append(keys(t.Take), keys(t.Set)...) {
		if !slices.Contains(meanings, name) && !slices.Contains(t.Optional, name) && name != "state" {
			list = append(list, name)
		}
	}
	return list
}

func takes(steps []rulebook.Step) []string {
	var list []string
	for i := range steps {
		list = append(list, append(keys(steps[i].Take), keys(steps[i].Set)...)...)
	}
	return list
}

func subset(some, all []string) bool {
	return !slices.ContainsFunc(some, func(n string) bool { return !slices.Contains(all, n) })
}

func (s *Session) knows(names []string) bool {
	return !slices.ContainsFunc(names, func(n string) bool { return s.Value(n) == nil })
}

func (s *Session) text(name string) string {
	text, err := expression.Plain(s.Value(name))
	if err != nil {
		return ""
	}
	return text
}

// look asks for a version. told: the portal answered. known is nil where it isn't there.
func (s *Session) look(ctx context.Context, steps []rulebook.Step) (known expression.Values, state string, told bool) {
	a := &Answer{}
	before := map[string]any{}
	for _, name := range takes(steps) {
		before[name] = s.Value(name)
	}
	err := s.walk(ctx, steps, asking(a))
	var lacks *missing
	var refused *Refused
	switch {
	case err == nil:
		known = expression.Values{}
		for _, name := range takes(steps) {
			known[name] = s.Value(name)
		}
		return known, a.State, true
	case errors.As(err, &lacks), errors.As(err, &refused) && (refused.Status == http.StatusNotFound || refused.Status == http.StatusGone):
		for name, v := range before {
			s.Know(name, v)
		}
		return nil, "", true
	}
	return nil, "", false
}

// find returns the values of a version that was there before; nil where the rulebook has no [[find]], or it isn't found.
func (s *Session) find(ctx context.Context, t *turn) expression.Values {
	if t.loop || len(s.Rules.Find) == 0 || !subset(wants(t), takes(s.Rules.Find)) {
		return nil
	}
	known, _, _ := s.look(ctx, s.Rules.Find)
	return known
}
