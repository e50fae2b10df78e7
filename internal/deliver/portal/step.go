package portal

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"net/http"
	"reflect"
	"slices"
	"time"

	"golang.org/x/sync/errgroup"

	"havvel/internal/rulebook"
	"havvel/internal/rulebook/expression"
	"havvel/internal/rulebook/place"
)

// A turn is a step as it is made once: for one element of the list that it goes through, or for none.
type turn struct {
	*rulebook.Step
	key    string            // its name in the ledger
	values expression.Values // that only this turn knows
	a      *Answer
	loop   bool // values that it takes go into lists
	taken  expression.Values
	inside bool // it logs in

	id        string // of its request
	last      *place.Answer
	following any    // where the next page is
	seen      string // what the portal showed of the version before the request
	before    bool   // it was done before, and its answer doesn't hold what a new one gets
}

// A way is how a recipe is walked.
type way struct {
	a      *Answer
	wait   time.Duration // of a step that is repeated; as Run has it
	ledger *Ledger       // nil for one that only asks
}

// asking is the way of a recipe that looks something up.
func asking(a *Answer) way { return way{a: a} }

// walk goes through the steps of a recipe.
func (s *Session) walk(ctx context.Context, steps []rulebook.Step, w way) error {
	for i := range steps {
		if err := s.step(ctx, &steps[i], w); err != nil {
			return err
		}
	}
	return nil
}

// step makes a step: not at all, once, or for every element of its list.
func (s *Session) step(ctx context.Context, step *rulebook.Step, w way) error {
	made, err := step.When.True(s.env(nil))
	if err != nil {
		return s.puzzled(step, err)
	}
	if !made {
		return nil
	}
	if step.Each != nil {
		return s.each(ctx, step, w)
	}
	t := &turn{Step: step, key: step.Step, a: w.a}
	if err := s.turn(ctx, t, w); err != nil {
		return err
	}
	for name, v := range t.taken {
		s.Know(name, v)
	}
	return nil
}

// each makes a step for every element of its list. What the turns take becomes lists, in the order of the elements.
func (s *Session) each(ctx context.Context, step *rulebook.Step, w way) error {
	turns, err := s.turns(step)
	if err != nil {
		return s.puzzled(step, err)
	}
	work, inner := errgroup.WithContext(ctx)
	work.SetLimit(max(1, step.Parallel))
	if s.Pretend {
		work.SetLimit(1) // told in their order
	}
	for _, t := range turns {
		own := *w.a
		t.a = &own
	}
	for _, t := range turns {
		work.Go(func() error {
			if inner.Err() != nil {
				return context.Cause(inner)
			}
			err := s.turn(inner, t, w)
			if err == nil || inner.Err() != nil {
				return err // when another turn failed, that is the error to tell
			}
			return s.within(t, err)
		})
	}
	if err := work.Wait(); err != nil {
		return err
	}
	if len(turns) > 0 {
		*w.a = *turns[len(turns)-1].a
	}
	for _, name := range slices.Concat(keys(step.Take), keys(step.Set)) {
		list := []any{}
		for _, t := range turns {
			if several, ok := t.taken[name].([]any); ok && step.Take[name].Many() {
				list = append(list, several...)
			} else {
				list = append(list, t.taken[name])
			}
		}
		s.Know(name, list)
	}
	return nil
}

// turns are those of a step that goes through a list.
func (s *Session) turns(step *rulebook.Step) ([]*turn, error) {
	v, err := step.Each.List.Value(s.env(nil))
	if err != nil {
		return nil, err
	}
	list := reflect.ValueOf(v)
	if v == nil || list.Kind() != reflect.Slice {
		return nil, fmt.Errorf("{%s} is no list", step.Each.List)
	}
	var turns []*turn
	for i := range list.Len() {
		values := expression.Values{step.Each.Name: list.Index(i).Interface(), "number": i + 1, "index": i}
		among, err := step.Among.True(s.env(values))
		if err != nil {
			return nil, err
		}
		if among {
			turns = append(turns, &turn{Step: step, key: fmt.Sprintf("%s %d", step.Step, i+1), values: values, loop: true})
		}
	}
	return turns, nil
}

// within says for which element a turn failed, where it has a name.
func (s *Session) within(t *turn, err error) error {
	if f, ok := t.values[t.Each.Name].(expression.File); ok && f.Name != "" && ctxless(err) {
		var refused *Refused
		if errors.As(err, &refused) {
			refused.Of = f.Name
		}
		if f.Total > 0 {
			return &part{fmt.Sprintf("piece %d", f.Number), err}
		}
		return &part{f.Name, err}
	}
	return err
}

// A part is an error at one element of a list.
type part struct {
	name string
	err  error
}

func (p *part) Error() string { return p.name + ": " + p.err.Error() }

func (p *part) Unwrap() error { return p.err }

func ctxless(err error) bool {
	return !errors.Is(err, context.Canceled) && !errors.Is(err, context.DeadlineExceeded)
}

// patience is how many requests in a row may fail while we wait for the portal's decision.
const patience = 5

// repeat makes a turn until nothing more is to be asked.
func (s *Session) repeat(ctx context.Context, t *turn, wait time.Duration, location string) error {
	if t.Repeat == nil || wait == 0 || s.Pretend {
		return s.pages(ctx, t, location)
	}
	if wait == ByRulebook {
		wait = time.Duration(t.Repeat.Limit)
	}
	end := time.Now().Add(wait)
	for failed := 0; ; {
		err := s.pages(ctx, t, location)
		var gone *Unreachable
		if errors.As(err, &gone) && failed < patience && ctx.Err() == nil {
			failed++
		} else if enough, err := s.enough(t, err); enough || err != nil {
			return err
		} else {
			failed = 0
		}
		pause := max(time.Duration(t.Repeat.Every), t.asked())
		if time.Now().Add(pause).After(end) {
			if err == nil && t.a.State == "" {
				why := fmt.Sprintf("it was asked for %s, and is still not where %s", wait, t.Repeat.Until)
				return s.odd(t.Step, why)
			}
			return err
		}
		if err := s.sleep(ctx, t, pause); err != nil {
			return err
		}
	}
}

// enough reports whether a turn that is repeated has what it waits for; err is of asking.
func (s *Session) enough(t *turn, err error) (bool, error) {
	if err != nil {
		return false, err
	}
	enough, err := t.Repeat.Until.True(s.env(t.judged()))
	if err != nil {
		return false, s.puzzled(t.Step, err)
	}
	return enough, nil
}

// longQuiet is how long we wait without a word.
const longQuiet = 3 * time.Second

// sleep waits, and says so where that is long.
func (s *Session) sleep(ctx context.Context, t *turn, pause time.Duration) error {
	if pause > longQuiet {
		s.Report.Begin(fmt.Sprintf("%s: waiting %s (%s)", s.Rules.Name, pause.Round(time.Second), t.Step.Step), 0)
		defer s.Report.End()
	}
	select {
	case <-ctx.Done():
		return context.Cause(ctx)
	case <-time.After(pause):
		return nil
	}
}

// mostPages is how many pages of a list are read.
const mostPages = 100

// pages makes a turn's request, and follows a list through its pages.
func (s *Session) pages(ctx context.Context, t *turn, location string) error {
	if t.Next == nil {
		return s.make(ctx, t, location)
	}
	all, seen := expression.Values{}, map[string]bool{}
	answer, next := *t.a, any(nil)
	for range mostPages {
		page, err := s.page(t, next)
		if err != nil {
			return err
		}
		if err := s.make(ctx, page, location); err != nil {
			return err
		}
		for name, v := range page.taken {
			all[name] = joined(all[name], v)
		}
		answer.Versions, answer.States = append(answer.Versions, page.a.Versions...), append(answer.States, page.a.States...)
		next = page.following
		mark := fmt.Sprint(next)
		if next == nil || next == "" || next == false || seen[mark] {
			t.taken, t.last, *t.a = all, page.last, answer
			if err := s.compute(t); err != nil {
				return s.puzzled(t.Step, err)
			}
			return nil
		}
		seen[mark] = true
	}
	return s.odd(t.Step, fmt.Sprintf("its list has more than %d pages", mostPages))
}

// page is a turn that asks for one page of a list; next is what the page before names, nil for the first.
func (s *Session) page(t *turn, next any) (*turn, error) {
	page := *t
	page.values = expression.Values{"next": next}
	maps.Copy(page.values, t.values)
	page.a = &Answer{}
	if next == nil || slices.Contains(t.Address.Names(), "next") || slices.Contains(t.Names(), "next") {
		return &page, nil
	}
	to, err := expression.Plain(next)
	if err != nil {
		return nil, s.puzzled(t.Step, err)
	}
	elsewhere := *t.Step
	elsewhere.Address = expression.Verbatim(to)
	page.Step = &elsewhere
	return &page, nil
}

// joined is what a value is after one more page: lists grow, and what a page lacks stays.
func joined(before, v any) any {
	list, ok := before.([]any)
	if more, also := v.([]any); ok && also {
		return append(list, more...)
	}
	if before != nil && v == nil {
		return before
	}
	return v
}

// turn makes a turn, or finds in the ledger that it was made.
func (s *Session) turn(ctx context.Context, t *turn, w way) error {
	if w.ledger == nil || t.inside {
		return s.repeat(ctx, t, w.wait, "")
	}
	hash, err := s.fingerprint(t)
	if err != nil {
		return s.puzzled(t.Step, err)
	}
	e, known := s.Ledger.Look(t.key)
	if known && e.Hash != "" && e.Hash != hash {
		s.Ledger.forget(t.key) // it was another request
		e, known = Entry{}, false
	}
	if done, err := s.before(ctx, t, e, known); done || err != nil {
		return err
	}
	location := ""
	if known && e.Open && e.Hash == hash {
		location = e.Location
	}
	return s.perform(ctx, t, w, hash, location)
}

// before finds in the ledger how a turn ended at an earlier try. done says that nothing is left to do.
func (s *Session) before(ctx context.Context, t *turn, e Entry, known bool) (done bool, err error) {
	switch {
	case !known || e.Hash == "" || t.Method == http.MethodGet && s.Ledger.Rereads:
	case e.Lost && !s.Again:
		t.seen = e.Seen
		return s.settle(ctx, t, &Lost{Portal: s.Rules.Name, Step: t.Step.Step, Before: true})
	case !e.Open && !e.Lost:
		s.Ledger.skip()
		t.taken = e.Values
		return true, s.understand(t, e.State, e.Reasons)
	}
	return false, nil
}

// perform makes a turn, and notes in the ledger how it ended.
func (s *Session) perform(ctx context.Context, t *turn, w way, hash, location string) (err error) {
	unsure := t.Method != http.MethodGet && !repeatable(t.Step) && !t.Resumable
	if unsure {
		if t.seen, err = s.sight(ctx, t); err != nil {
			return err
		}
		s.Ledger.keep(t.key, Entry{Hash: hash, Lost: true, Seen: t.seen})
	}
	err = s.repeat(ctx, t, w.wait, location)
	var lost *Lost
	if errors.As(err, &lost) {
		if !unsure {
			return lost.again()
		}
		return s.afterLoss(ctx, t, w, lost, hash, location)
	}
	var odd *Puzzled
	switch {
	case err == nil, errors.As(err, &odd) && odd.yes: // the portal said yes; what else it said is for people
		s.made(t, hash)
	case unsure && ctx.Err() == nil:
		s.Ledger.forget(t.key) // the portal said no
	}
	return err
}

// afterLoss finds out how a turn ended whose answer was lost, and makes it again where it did not happen.
func (s *Session) afterLoss(ctx context.Context, t *turn, w way, lost *Lost, hash, location string) error {
	done, err := s.settle(ctx, t, lost)
	if !done && err == nil {
		err = s.repeat(ctx, t, w.wait, location)
		done = err == nil
	}
	if done && err == nil {
		s.made(t, hash)
	}
	return err
}

// make makes a turn's request.
func (s *Session) make(ctx context.Context, t *turn, location string) error {
	if t.Resumable && !s.Pretend {
		return s.resumable(ctx, t, location)
	}
	err := s.persist(ctx, t)
	if err == nil && t.before {
		if known := s.find(ctx, t); known != nil {
			maps.Copy(t.taken, known)
		}
	}
	return err
}

// made writes down that a request was made; what may be a secret is left out, and such a request is made again by another process.
func (s *Session) made(t *turn, hash string) {
	e := Entry{Hash: hash, Values: t.taken, State: t.a.State, Reasons: t.a.Reasons}
	for name, v := range t.taken {
		e.Private = e.Private || private(name, v)
	}
	e.Private = e.Private || queried(t.a.Draft)
	s.Ledger.keep(t.key, e)
}

// repeatable reports whether doing a request twice is the same (RFC 9110 section 9.2.2).
func repeatable(step *rulebook.Step) bool {
	return step.Again || slices.Contains([]string{http.MethodGet, http.MethodHead, http.MethodPut, http.MethodDelete}, step.Method)
}

func keys[V any](m map[string]V) []string {
	var list []string
	for k := range m {
		list = append(list, k)
	}
	slices.Sort(list)
	return list
}

// odd says that rulebook and portal don't fit together at a step.
func (s *Session) odd(step *rulebook.Step, why string) *Puzzled {
	return &Puzzled{Portal: s.Rules.Name, Step: step.Step, Message: why}
}

func (s *Session) puzzled(step *rulebook.Step, err error) error {
	var known *Puzzled
	if errors.As(err, &known) {
		return err
	}
	return &Puzzled{Portal: s.Rules.Name, Step: step.Step, Message: s.masked(err.Error()), cause: err}
}
