package portal

import (
	"context"
	"errors"
	"net/http"
	"slices"

	"havvel/internal/rulebook"
	"havvel/internal/rulebook/expression"
)

// settle finds out what happened to a write whose answer was lost, by asking the portal. done: it happened, and what it gives is known.
// Not done, without an error: it did not happen. Where nobody can tell, the error is lost.
func (s *Session) settle(ctx context.Context, t *turn, lost *Lost) (done bool, err error) {
	if t.loop || ctx.Err() != nil {
		return false, lost
	}
	wanted := wants(t)
	switch {
	case len(s.Rules.Find) > 0 && len(wanted) > 0 && subset(wanted, takes(s.Rules.Find)):
		known, state, told := s.look(ctx, s.Rules.Find)
		if !told {
			return false, lost
		}
		if known == nil {
			return false, nil
		}
		t.taken = known
		t.a.State = state
		for name, v := range known {
			s.learn(t, name, v)
		}
		return true, nil
	case len(wanted) == 0 && len(s.Rules.Follow) > 0 && s.knows(s.Rules.Keep):
		known, state, told := s.look(ctx, s.Rules.Follow)
		if told && known != nil && state != "" && state != rulebook.Sent {
			t.taken, t.a.State = known, state
			return true, nil
		}
	case len(s.Rules.List) > 0 && len(wanted) == 0:
		a := &Answer{}
		if s.quietly(ctx, s.Rules.List, a) == nil && slices.Contains(a.Versions, s.text("version")) {
			return true, nil
		}
	}
	return false, lost
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

// quietly goes through steps that only ask; the ledger doesn't know of them.
func (s *Session) quietly(ctx context.Context, steps []rulebook.Step, a *Answer) error {
	for i := range steps {
		ledger := s.Ledger
		s.Ledger = nil
		err := s.step(ctx, &steps[i], a, 0)
		s.Ledger = ledger
		if err != nil {
			return err
		}
	}
	return nil
}

// look asks for a version. told: the portal answered. known is nil where it isn't there.
func (s *Session) look(ctx context.Context, steps []rulebook.Step) (known expression.Values, state string, told bool) {
	a := &Answer{}
	before := map[string]any{}
	for _, name := range takes(steps) {
		before[name] = s.Value(name)
	}
	err := s.quietly(ctx, steps, a)
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
