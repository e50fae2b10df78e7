package portal

import (
	"context"
	"errors"
	"net/http"
	"net/http/cookiejar"
	"slices"
	"strings"

	"havvel/internal/rulebook"
)

// enter logs in, where the rulebook says how. What is taken there is a secret.
func (s *Session) enter(ctx context.Context) error {
	if s.entered {
		return nil
	}
	s.entered = true
	for i := range s.Rules.Enter {
		step := &s.Rules.Enter[i]
		if err := s.persist(ctx, step, &Answer{}); err != nil {
			return err
		}
	}
	return nil
}

// do makes a step's request. Where we had logged in and are not known any more, we log in once more.
func (s *Session) do(ctx context.Context, step *rulebook.Step, a *Answer) error {
	err := s.persist(ctx, step, a)
	var refused *Refused
	if errors.As(err, &refused) && refused.Key && len(s.Rules.Enter) > 0 {
		s.entered = false
		if err := s.enter(ctx); err != nil {
			return err
		}
		err = s.persist(ctx, step, a)
	}
	return err
}

// inside reports whether a step belongs to the log-in.
func (s *Session) inside(step *rulebook.Step) bool {
	return slices.ContainsFunc(s.Rules.Enter, func(e rulebook.Step) bool { return e.Step == step.Step })
}

// newJar keeps cookies, since some portals know by one who logged in.
func newJar() http.CookieJar {
	jar, err := cookiejar.New(nil)
	if err != nil {
		panic(err) // it has no reason to fail
	}
	return jar
}

// Hide gives a value that must never be shown or written down.
func (s *Session) Hide(name, value string) { s.hide(name, value) }

func (s *Session) hide(name, value string) {
	s.Values[name], s.hidden[name] = value, true
	const shortest = 6 // a key of a few letters would be found in words that have nothing to do with it
	if len(value) >= shortest {
		s.secrets = append(s.secrets, value)
	}
}

// masked takes secrets out of what is shown.
func (s *Session) masked(text string) string {
	for _, secret := range s.secrets {
		text = strings.ReplaceAll(text, secret, "(key)")
	}
	return text
}
