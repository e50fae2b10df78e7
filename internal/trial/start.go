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
	for {
		q.await(ctx)
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
		r.glance(ctx, q.last)
		m := r.moment(q.last)
		if s.next(m) && s.Answer != "" {
			return s, nil
		}
		limit := r.trial.limit()
		over := m.Own >= limit || m.At >= patience*limit
		if s.WantsTo && r.resting {
			s.yes(max(m.Since, m.Pattern))
			return s, nil
		}
		if last := over && m.Visible && m.Work == "" && !m.Begun && m.At-m.Answered < hungAfter; s.WantsTo || last {
			s.Eager = s.Eager && !last
			if err := r.tell(ctx, s, q.last); err != nil || s.Answer != "" {
				return s, err
			}
			continue
		}
		if over {
			s.end(m, limit)
			return s, nil
		}
	}
}

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

// tell has a press tell whether the game has started; where the trial has steps, they do so.
func (r *viewer) tell(ctx context.Context, s *starting, last answered) error {
	words := r.words(ctx)
	err := r.untouched(ctx)
	if err != nil {
		return err
	}
	failed := r.moment(last).Failure
	begun := time.Now()
	if r.pressed == 0 {
		r.pressed = begun.Sub(r.seen.began)
	}
	before := r.sight.since(begun.Add(-forAPress))
	led := "" // the words to which a press led at once
	if len(r.trial.Steps) > 0 {
		r.played = true
		err = r.steps(ctx)
	} else {
		led, err = r.pressSomething(ctx, words)
	}
	if err != nil {
		return err
	}
	until := begun.Add(forAPress)
	if first := r.seen.began.Add(r.pressed + 2*forAPress); !s.Eager && first.After(until) {
		until = first
	}
	r.waitFor(ctx, begun, until, led != "")
	now := max(r.sight.since(begun), r.settle(ctx))
	state, err := r.ask(ctx)
	if err != nil {
		return err
	}
	woke := state.Pattern != last.state.Pattern && state.Pattern != 0
	if !woke && (now < pressed || state.Styled) {
		woke = r.reworded(ctx, words, led)
	}
	m := r.moment(answered{state, nil, time.Now()})
	m.Broke = r.broke(ctx, failed, m.Failure)
	s.after(m, before, now, woke)
	return ctx.Err()
}

// untouched takes the picture of the game before anything is pressed.
func (r *viewer) untouched(ctx context.Context) error {
	if r.pressed != 0 {
		return nil
	}
	p, err := r.picture(ctx, "start")
	if err == nil {
		r.firstScreen(p)
		r.sight.look(p, time.Now()) // the next one of its kind is compared with it
	}
	return err
}

// waitFor waits for what a press leads to; less long where something has come of it.
func (r *viewer) waitFor(ctx context.Context, begun, until time.Time, led bool) {
	seen := r.sight.many()
	for ; ctx.Err() == nil; pause(ctx, often) {
		came := led || r.sight.many() > seen+2 || r.sight.since(begun) >= pressed
		if now := time.Now(); now.After(until) || now.Sub(begun) > forAPress && came {
			break
		}
	}
	if r.sight.many() == seen { // nothing came by itself
		r.lookNow(ctx)
	}
}

// settle waits until all has come that a press made the page ask for, unless the picture lives meanwhile, and returns the share of the
// window that changed last.
func (r *viewer) settle(ctx context.Context) float64 {
	_, begun := r.pulse.beat()
	from := time.Now()
	for waited := false; ctx.Err() == nil; pause(ctx, often) {
		work, ended, _ := r.watch.work(r.seen.began)
		_, own := r.pulse.beat()
		settled := work == "" && time.Since(r.seen.began)-ended >= settledAfter
		if settled && !waited {
			return 0
		}
		if settled || r.sight.since(from) >= alive || own-begun >= deadFor || time.Since(from) >= patience*deadFor {
			r.lookNow(ctx)
			return r.sight.since(time.Now().Add(-forAPress))
		}
		waited = true
	}
	return 0
}

// lookNow takes a picture of the window. One that can't be taken tells nothing.
func (r *viewer) lookNow(ctx context.Context) {
	if p, err := r.tab.Picture(ctx); err == nil {
		r.sight.look(p, time.Now())
	}
}

// broke reports whether something failed for good after a press, and nothing moves from then on.
func (r *viewer) broke(ctx context.Context, before, after *failure) bool {
	if after == nil || !after.Lasting || before != nil && before.Words == after.Words {
		return false
	}
	r.lookNow(ctx) // the next picture of its kind is compared with this one
	from := time.Now()
	pause(ctx, forAPress)
	r.lookNow(ctx)
	return r.sight.since(from) < motion
}

// words are those that the page shows.
func (r *viewer) words(ctx context.Context) (words string) {
	r.tab.Evaluate(ctx, r.watch.frame(), "window.havvelWords ? havvelWords().slice(0, 20000) : ''", &words) // "" where it doesn't answer
	return words
}

// reworded reports whether a press led to other words, and those stay: words that change all the time count something. Those to which it
// led at once have stayed for as long as a press takes to show.
func (r *viewer) reworded(ctx context.Context, before, led string) bool {
	now := r.words(ctx)
	if now == before || now == "" {
		return false
	}
	if now == led {
		return true
	}
	pause(ctx, forAPress)
	return r.words(ctx) == now
}

// pressSomething presses what players would: the controls that are to be seen, or the middle, and the keys that begin games. Once a press
// leads to other words than those that were there, it stops, and returns them: the next one could lead back.
func (r *viewer) pressSomething(ctx context.Context, words string) (led string, err error) {
	restless := r.words(ctx) != words // they change by themselves, and tell nothing of a press
	for _, at := range r.controls(ctx) {
		if err := r.press(ctx, at[0], at[1]); err != nil {
			return "", err
		}
		if r.view.Touch {
			pause(ctx, twice)
		}
		pause(ctx, often)
		if now := r.words(ctx); !restless && now != words && now != "" {
			return now, nil
		}
	}
	for _, key := range []string{"Enter", "Space", "ArrowRight"} {
		if err := r.key(ctx, key, 0); err != nil {
			return "", err
		}
	}
	return "", nil
}

// controls are the points at which players press: on the controls that are to be seen, or in the middle.
func (r *viewer) controls(ctx context.Context) (points [][2]float64) {
	err := r.tab.Evaluate(ctx, r.watch.frame(), "window.havvelControls ? havvelControls() : []", &points)
	if err != nil || len(points) == 0 {
		page, _ := r.ask(ctx) // one that doesn't answer is pressed all the same
		width, height := r.extent(page)
		return [][2]float64{{width / 2, height / 2}}
	}
	return points
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
