package trial

import (
	"fmt"
	"time"
)

// An Answer is what a trial says of one question.
type Answer string

// The answers.
const (
	Yes    Answer = "yes"
	No     Answer = "no"
	Untold Answer = "can't tell"
)

// A moment is what is known of a run at one time.
type moment struct {
	At       time.Duration // since the page was asked for
	Own      time.Duration // of that, what the browser was given
	Visible  bool
	Since    time.Duration // when something was visible first
	Changed  float64       // share of the window that changed within the last while
	Work     string        // what is still being loaded or made; "" for nothing
	Ended    time.Duration // when the last request ended
	Answered time.Duration // when the page answered last
	Pattern  time.Duration // when the game began to draw as it draws now
	Styled   bool          // what moves is a stylesheet's doing, as on a loading screen, and no script's
	Begun    bool          // the game said that it loads
	Done     time.Duration // when it said that it has loaded; 0 for not yet
	Crashed  bool
	Broke    bool     // something failed for good after a press, and nothing moves any more
	Failure  *failure // the worst that went wrong so far
}

// A failure is something that went wrong, and can be why a game does not start.
type failure struct {
	Words, Fix string
	Stuck      bool // nothing went wrong that could be named: the last thing that happened is all there is
	Lasting    bool // waiting doesn't help: a file was refused, or a script ended in an exception
	Machine    bool // it is the browser's or the machine's fault, so nothing can be told
}

// Bounds of the rule.
const (
	while        = 2500 * time.Millisecond // over which changes are added up
	settledAfter = 700 * time.Millisecond  // after the last request
	nearFor      = 1200 * time.Millisecond // of own time, after which a press may be wanted soon
	quietFor     = 2 * time.Second         // of own time, in which nothing is loaded any more
	stillFor     = 3500 * time.Millisecond // likewise, where the picture doesn't move
	deadFor      = 8 * time.Second         // likewise, where something failed: games try again after a few seconds
	silentAfter  = time.Second             // without an answer, from which on a page is not at rest
	hungAfter    = 4 * time.Second         // likewise, from which on it hangs
	judgedAfter  = 5 * time.Second         // of own time, before which time alone says nothing

	alive     = 0.08 // share of the window that changes in a running game; a loading bar changes 2 to 3 %
	plainly   = 0.25 // likewise, where bytes still arrive
	motion    = 0.0008
	pressed   = 0.02 // that changes after a press at least
	pressedBy = 3.0  // times as much as before
)

// A starting follows a run from moment to moment until it can be told whether the game has started.
type starting struct {
	quiet   time.Duration // own time at which the present quiet began
	isQuiet bool
	died    time.Duration // own time since which something has failed, and nothing loads or moves
	isDead  bool

	Shown time.Duration // when it could be seen first with nothing still loading; 0 for never

	Answer  Answer
	At      time.Duration // of a yes: when it had started
	Why     failure       // of a no, and of a can't tell: what settles it
	Hung    bool          // a no, since the page does not answer
	ByTime  bool          // a no that rests on time alone
	WantsTo bool          // nothing moves by itself: a press would tell
	Nears   bool          // it will be wanted soon, if nothing moves until then
	Eager   bool          // likewise as soon as it may be at rest: a press that leads to nothing then is done again
}

// next takes the next moment. It returns true once there is an answer, or a press is wanted.
func (s *starting) next(m moment) bool {
	if s.Shown == 0 && m.Visible && m.idle() {
		s.Shown = max(m.Since, 1)
	}
	switch {
	case m.Crashed:
		return s.no("the page crashed; most often it took more memory than the browser gives", "havvel look shows what takes memory")
	case m.Done > 0:
		return s.yes(max(m.Done, m.Since))
	case m.At-m.Answered > silentAfter:
		s.isQuiet, s.isDead = false, false
		return false // how long that may last, the limit says
	case s.dead(m):
		s.failed(m.Failure)
		return true
	case m.Visible && m.idle() && m.At-m.Ended >= settledAfter:
		return s.calm(m)
	}
	s.isQuiet = false
	return m.plain() && s.yes(max(m.Since, m.Pattern))
}

// plain reports whether so much moves that it is the game, though bytes still arrive.
func (m moment) plain() bool {
	return m.Visible && !m.Begun && !m.Styled && m.Changed >= plainly && m.At-m.Since > while
}

// dead takes a moment, and reports whether a failure has been the last thing that happened for so long that nothing follows.
func (s *starting) dead(m moment) bool {
	was := s.isDead
	s.isDead = m.Failure != nil && m.Failure.Lasting && m.Work == "" && m.At-m.Ended >= settledAfter && m.Changed < motion
	if s.isDead && !was {
		s.died = m.Own
	}
	return s.isDead && m.Own-s.died >= deadFor
}

// idle reports whether nothing loads, as far as is known.
func (m moment) idle() bool { return m.Work == "" && !m.Begun }

// calm takes a moment in which nothing loads.
func (s *starting) calm(m moment) bool {
	if !s.isQuiet {
		s.isQuiet, s.quiet = true, m.Own
	}
	calm := m.Own - s.quiet
	switch {
	case calm < quietFor:
		s.Nears = s.Eager && calm >= nearFor && m.Changed < motion
		return false
	case m.Changed >= alive && !m.Styled:
		return s.yes(max(m.Since, m.Pattern))
	case (m.Changed < motion || m.Styled) && calm < stillFor && !s.Eager:
		return false
	}
	s.Eager = s.Eager && calm < stillFor
	s.WantsTo = true
	return true
}

// after takes the moment after a press: before and now are the shares of the window that changed in as much time before and after it, and
// woke says that the game draws in another way. There is no answer where an eager press led to nothing.
func (s *starting) after(m moment, before, now float64, woke bool) {
	eager := s.Eager
	s.WantsTo, s.Eager = false, false
	changed := now >= pressed && now >= pressedBy*before || woke || now >= alive && !m.Styled
	switch {
	case eager && !changed && !m.Crashed && m.Done == 0:
	case m.Crashed:
		s.no("the page crashed when something was pressed", "havvel look shows what takes memory")
	case changed && m.stuck() != "":
		s.untold("a press changes what is to be seen, and then it " + m.stuck())
	case changed, m.Done > 0:
		s.yes(max(m.Since, m.Pattern))
		if woke {
			s.At = m.Since // what draws in another way now is what the press led to
		}
	case m.Failure != nil:
		s.failed(m.Failure)
	default:
		s.untold(unmoved(m.Styled, max(before, now)))
	}
}

// unmoved says what a page looks like that a press doesn't change.
func unmoved(styled bool, moves float64) string {
	switch {
	case styled:
		return "all that moves are animations of a stylesheet, and a press changes nothing: a title that waits for something else, or a " +
			"loading screen"
	case moves >= motion:
		return "something small moves, and a press changes nothing: a title that waits for something else, or a loading picture"
	}
	return "the picture stands still, and a press changes nothing: a title that waits for something else, or a game that is stuck"
}

// draws reports whether a game is at work, though nothing can be made out.
func (m moment) draws() bool { return m.Pattern > 0 || m.Changed >= alive }

// stuck is what a press led to, if that is no game yet: it "stands" or "waits", and for what.
func (m moment) stuck() string {
	switch {
	case m.Done > 0:
		return ""
	case m.Broke:
		return "stands: " + m.Failure.Words
	case m.Work != "" && (m.Changed < alive || m.Styled):
		return "waits for " + m.Work
	}
	return ""
}

// end takes the moment at which the time is up.
func (s *starting) end(m moment, limit time.Duration) {
	if s.Answer != "" {
		return
	}
	enough := m.Own >= judgedAfter
	words := func(f string, args ...any) string { return fmt.Sprintf(f, args...) }
	switch {
	case m.At-m.Answered > hungAfter && !enough:
		s.untold("the page did not answer, and the machine gave the browser little time")
	case m.At-m.Answered > hungAfter:
		s.no("the page stopped answering", "look for a loop in the game's start that never ends, or a document that is opened and never closed")
		s.ByTime, s.Hung = !enough, true
	case m.Failure != nil:
		s.failed(m.Failure)
	case m.Work != "" && m.Changed >= alive && !m.Styled:
		s.untold(words("it draws, and still waits for %s", m.Work))
	case m.Work != "":
		s.no(words("it still waits for %s", m.Work), "look whether the file is too large, or its host does not answer")
		s.ByTime = true
	case m.Begun:
		s.no("loading was begun and never done", "look what the game waits for, and whether it sends loading-done")
		s.Why.Stuck = true
	case !enough:
		s.untold(words("the machine gave the browser %s of %s only", m.Own.Round(100*time.Millisecond), limit))
	case !m.Visible && m.draws():
		s.untold("it draws, and all is of one colour")
	case !m.Visible:
		s.no("nothing is to be seen", "look at what the game does after that")
		s.Why.Stuck = true
	default:
		s.untold("the picture never came to rest, and changes little")
	}
}

func (s *starting) yes(at time.Duration) bool {
	s.Answer, s.At = Yes, at
	return true
}

func (s *starting) failed(f *failure) {
	s.Answer, s.Why = No, *f
	if f.Machine {
		s.Answer = Untold
	}
}

func (s *starting) no(words, fix string) bool {
	s.Answer, s.Why = No, failure{Words: words, Fix: fix}
	return true
}

func (s *starting) untold(words string) {
	s.Answer = Untold
	s.Why = failure{
		Words: words,
		Fix:   "let the game send the event loading-done when it can be played, or write steps under [trial] that lead to where it can be seen",
	}
}
