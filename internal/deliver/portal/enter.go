package portal

import (
	"context"
	"sync"
	"sync/atomic"
)

// entrance is how far a session is logged in.
type entrance struct {
	mu    sync.Mutex
	times atomic.Int32 // how often it logged in
}

// enter logs in, where the rulebook says how. What is taken there is a secret.
func (s *Session) enter(ctx context.Context) error {
	s.entry.mu.Lock()
	defer s.entry.mu.Unlock()
	if s.entry.times.Load() > 0 {
		return nil
	}
	return s.logIn(ctx)
}

func (s *Session) logIn(ctx context.Context) error {
	s.entry.times.Add(1)
	if (s.Pretend || s.Entered) && s.Rules.Login.Tokens() {
		s.Know("token", "(token)")
	} else if s.Rules.Login.Tokens() {
		if err := s.token(ctx); err != nil {
			return err
		}
	}
	for i := range s.Rules.Enter {
		t := &turn{Step: &s.Rules.Enter[i], key: s.Rules.Enter[i].Step, a: &Answer{}, inside: true}
		made, err := t.When.True(s.env(nil))
		if err != nil {
			return s.puzzled(t.Step, err)
		}
		if !made {
			continue
		}
		if err := s.turn(ctx, t, way{a: t.a, wait: ByRulebook}); err != nil {
			return err
		}
	}
	return nil
}

// entrances is how often we logged in.
func (s *Session) entrances() int32 { return s.entry.times.Load() }

// renewable reports whether to log in once more may help where the key was refused.
func (s *Session) renewable() bool { return len(s.Rules.Enter) > 0 || s.Rules.Login.Tokens() }

// renew logs in once more, unless another request did since.
func (s *Session) renew(ctx context.Context, since int32) error {
	s.entry.mu.Lock()
	defer s.entry.mu.Unlock()
	if s.entry.times.Load() > since {
		return nil
	}
	return s.logIn(ctx)
}

// A Prompt shows a developer where to confirm a log-in, with the code to type there. It returns at once.
type Prompt func(address, code string)
