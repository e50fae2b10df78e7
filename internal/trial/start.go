package trial

import (
	"context"
	"fmt"
	"strings"
	"time"

	"havvel/internal/finding"
)

const (
	often     = 150 * time.Millisecond  // between two moments
	twice     = 350 * time.Millisecond  // within which two taps are one gesture that zooms
	hovered   = 500 * time.Millisecond  // in which it shows that the mouse is there
	forAPress = 1500 * time.Millisecond // in which a press shows
	patience  = 3                       // times the limit, where the machine gives the browser little time
)

// An answered question about the page.
type answered struct {
	state *state
	err   error
	at    time.Time
}

// start follows the game until it can be told whether it has started.
func (r *viewer) start(ctx context.Context) error {
	stop, err := r.tab.Watch(ctx, sightWidth, r.sight.look)
	if err != nil {
		return err
	}
	defer stop()
	defer func() { _, r.seen.Bytes = r.watch.pending() }()
	s, err := r.follow(ctx)
	if err != nil {
		return err
	}
	r.seen.Answer, r.seen.shownMS = s.Answer, int(s.Shown.Milliseconds())
	switch s.Answer {
	case Yes:
		r.seen.Started, r.seen.StartMS = true, int(s.At.Milliseconds())
	case No:
		return r.never(ctx, s)
	default:
		r.seen.Why = s.Why.Words
		r.problem("trial-untold", "whether the game starts can't be told: "+s.Why.Words, s.Why.Fix)
	}
	return nil
}

func (r *viewer) follow(ctx context.Context) (*starting, error) {
	s := &starting{Eager: r.eager && !r.resting && len(r.trial.Steps) == 0}
	q := questions{viewer: r, replies: make(chan answered, 1), last: answered{at: time.Now(), state: &state{}}}
	for s.Answer == "" {
		q.await(ctx)
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
		r.glance(ctx, q.last)
		if err := r.consider(ctx, s, q.last); err != nil {
			return nil, err
		}
	}
	return s, nil
}

// consider takes what is known now, and has a press tell where that is wanted, or where the time is up and a press may still tell.
func (r *viewer) consider(ctx context.Context, s *starting, last answered) error {
	m, limit := r.moment(last), r.trial.limit()
	over := m.Own >= limit || m.At >= patience*limit
	switch asked := s.next(m); {
	case asked && s.Answer != "":
		return nil
	case s.WantsTo && r.resting:
		s.yes(max(m.Since, m.Pattern))
		return nil
	case over && !s.WantsTo && !m.pressable():
		s.end(m, limit)
		return nil
	case s.WantsTo || over:
		s.Eager = s.Eager && !over
		return r.tell(ctx, s, last)
	case s.Nears:
		return r.approach(ctx)
	}
	return nil
}

// pressable reports whether a press could tell, as far as is known.
func (m moment) pressable() bool { return m.Visible && m.idle() && m.At-m.Answered < hungAfter }

// questions are what the page is asked all the time. One at a time is on its way.
type questions struct {
	*viewer
	asking  bool
	replies chan answered
	last    answered // that had an answer
}

// await asks, and waits for an answer, but not for long.
func (q *questions) await(ctx context.Context) {
	if !q.asking {
		q.asking = true
		go func() {
			state, err := q.ask(ctx)
			q.replies <- answered{state, err, time.Now()}
		}()
	}
	select {
	case a := <-q.replies:
		q.asking = false
		if a.err == nil {
			q.last = a
		}
		pause(ctx, often-time.Since(a.at))
	case <-time.After(often):
	}
}

// glance takes a picture where nothing was drawn for a while: a screencast tells nothing of what was drawn before it, and doesn't change.
func (r *viewer) glance(ctx context.Context, last answered) {
	if last.err != nil || time.Since(last.at) >= silentAfter || r.sight.age() <= silentAfter {
		return
	}
	r.lookNow(ctx)
}

// moment puts together what is known now.
func (r *viewer) moment(last answered) moment {
	m := moment{Answered: last.at.Sub(r.seen.began)}
	_, m.Own = r.pulse.beat()
	now := time.Now()
	m.At = now.Sub(r.seen.began)
	visible, first := r.sight.told()
	m.Visible, m.Changed = visible, r.sight.since(now.Add(-while))
	if !first.IsZero() {
		m.Since = first.Sub(r.seen.began)
	}
	s := last.state
	m.Styled = s.Styled && s.Pattern == 0
	if s.Pattern != 0 {
		m.Pattern = m.Answered - time.Duration((s.Now-s.PatternAt)*float64(time.Millisecond))
	}
	m.Work, m.Ended, m.Crashed = r.watch.work(r.seen.began)
	if m.Work == "" {
		m.Work = s.Making
	}
	for _, e := range r.watch.events() {
		switch {
		case e.Inferred(): // by pack's adapter, which knows no more than a trial does
		case e.Kind == "event" && e.Name == "loading-begun":
			m.Begun = true
		case e.Kind == "event" && e.Name == "loading-done" && m.Done == 0:
			m.Done = time.Duration(e.At * float64(time.Millisecond))
		}
	}
	m.Begun = m.Begun && m.Done == 0
	m.Failure = r.failure(m.Visible && !m.Begun, s)
	return m
}

// never notes that the game did not start, and why.
func (r *viewer) never(ctx context.Context, s *starting) error {
	if len(r.seen.Pictures) == 0 {
		r.picture(ctx, "when the time was up") // a page that hangs gives none
	}
	f := finding.Finding{ID: "trial-start", Message: "the game did not start: " + s.Why.Words, Fix: s.Why.Fix}
	if last := r.watch.last(); s.Why.Stuck && last != "" {
		f.Message += "; " + last
	}
	if s.Hung {
		r.running(ctx, &f)
	}
	if s.ByTime {
		f.Level = finding.Warning // a slower line or machine is not the game's fault
	}
	r.seen.Why = s.Why.Words
	r.seen.Problems = append(r.seen.Problems, f)
	return nil
}

// failure is the worst that went wrong so far, where it can keep a game from starting; nil for nothing. Where nothing is to be seen, an
// error on the console counts, too.
func (r *viewer) failure(visible bool, s *state) *failure {
	if s.NoGL && !r.seen.under("no-webgl") {
		return &failure{
			Words: "the browser gives the game no WebGL on this machine", Fix: "try another browser (--browser), or another machine",
			Machine: true,
		}
	}
	r.watch.mu.Lock()
	defer r.watch.mu.Unlock()
	for _, f := range r.trial.requests(&View{Requests: r.watch.order}) {
		if f.ID == "trial-encoding" || f.ID == "trial-missing" && f.Level == "" || f.ID == "trial-type" {
			return &failure{Words: f.File + ": " + f.Message, Fix: f.Fix, Lasting: true}
		}
	}
	for _, p := range r.watch.problems {
		switch {
		case p.ID != "trial-exception" && (p.ID != "trial-console" || visible):
		case strings.Contains(p.Message, "SharedArrayBuffer"):
			return &failure{Words: "it needs memory that threads share, for which the page must be isolated, and " + r.host() +
				" sends no isolation headers", Fix: "export without threads"}
		default:
			words := p.Message
			if p.File != "" && p.Line > 0 {
				words = fmt.Sprintf("%s (%s:%d)", words, p.File, p.Line)
			}
			return &failure{Words: words, Fix: "fix it in the game", Lasting: p.ID == "trial-exception"}
		}
	}
	return nil
}
