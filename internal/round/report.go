package round

import (
	"cmp"
	"slices"
	"strconv"
	"strings"
)

// A Report is what a round means. It is of testers or of simulated ones, never of both.
type Report struct {
	OfSimulated bool     `json:"of_simulated"`
	Testers     int      `json:"testers"`       // who allowed to be watched
	Started     int      `json:"started"`       // began to play
	Finished    int      `json:"finished"`      // won the last level that anybody reached
	Simulated   int      `json:"simulated"`     // sessions that nobody played; they are in no other figure unless all are theirs
	Seconds     float64  `json:"seconds"`       // median length of a session, without pauses
	Pauses      int      `json:"pauses"`        // testers who looked away at least once
	Shown       float64  `json:"first_picture"` // median seconds to the first picture
	Levels      []Level  `json:"levels"`
	Frames      []Frames `json:"frames"`
	Errors      []Error  `json:"errors"`
	Answers     []Answer `json:"answers"`
	Cut         int      `json:"cut"`    // events that the host had no room for
	Unread      int      `json:"unread"` // lines that can't be read

	samples samples
}

// A Level is how one level went, over all testers.
type Level struct {
	Name    string   `json:"level"`
	Reached int      `json:"reached"` // testers who began it
	Won     int      `json:"won"`
	Stopped int      `json:"stopped"`       // whose session ended there, not won
	Tries   float64  `json:"tries"`         // median of those who won: how often they began it
	Seconds float64  `json:"seconds"`       // likewise: how long they played it, all tries together
	PerWin  float64  `json:"tries_per_win"` // all tries of everybody, for each who won; 0 when nobody did
	Cost    float64  `json:"seconds_per_win"`
	Hard    []string `json:"hard"` // "tries", "time": what says that it is harder than the others
}

// Frames is how smoothly it ran on one class of devices.
type Frames struct {
	Class   string  `json:"class"`
	Testers int     `json:"testers"`
	Median  float64 `json:"median"` // frames a second
	Worst   float64 `json:"worst"`  // of a tester's medians
}

// An Error is one that the game met.
type Error struct {
	Message string `json:"message"`
	Testers int    `json:"testers"`
	Times   int    `json:"times"`
}

// An Answer is all that was said to one question, by its number from 0.
type Answer struct {
	Question int      `json:"question"`
	Given    []string `json:"given"`
}

// Grouped counts what was said in the same words, the most frequent first.
func (a Answer) Grouped() []Count {
	var list []Count
	at := map[string]int{}
	for _, words := range a.Given {
		i, known := at[words]
		if !known {
			i = len(list)
			at[words] = i
			list = append(list, Count{Words: words})
		}
		list[i].Times++
	}
	slices.SortStableFunc(list, func(a, b Count) int { return b.Times - a.Times })
	return list
}

// A Count is how often something was said.
type Count struct {
	Words string
	Times int
}

// samples are what a report's medians are of.
type samples struct {
	lengths, shown []float64
	levels         map[string]*levelSums
	frames         map[string][]float64 // by class: a median of each tester
}

type levelSums struct {
	reached, won, stopped, allTries int
	allSeconds                      float64
	tries, seconds                  []float64 // of those who won
}

// A Maker makes a report of sessions, one after another.
type Maker struct {
	report  Report
	order   []string // of levels, as they were first reached
	errors  map[string]*Error
	answers map[int][]string
}

// NewMaker begins a report of testers, or of simulated ones.
func NewMaker(simulated bool) *Maker {
	return &Maker{
		report: Report{OfSimulated: simulated, samples: samples{levels: map[string]*levelSums{}, frames: map[string][]float64{}}},
		errors: map[string]*Error{}, answers: map[int][]string{},
	}
}

// Add takes in a session, and returns how it went; nil when the report is not of its kind.
func (m *Maker) Add(s *Session) *Play {
	r := &m.report
	if s.Simulated {
		r.Simulated++
	}
	if s.Simulated != r.OfSimulated {
		return nil
	}
	r.Cut, r.Unread = r.Cut+s.Cut, r.Unread+s.Unread
	p := Follow(s)
	r.Testers++
	if p.Started {
		r.Started++
	}
	if len(p.Away) > 0 {
		r.Pauses++
	}
	if p.Length > 0 {
		r.samples.lengths = append(r.samples.lengths, p.played(Span{0, p.Length}))
	}
	if p.Shown >= 0 {
		r.samples.shown = append(r.samples.shown, float64(p.Shown)/1000)
	}
	if fps := p.FPS(); fps > 0 {
		class := p.Device.Class()
		r.samples.frames[class] = append(r.samples.frames[class], fps)
	}
	m.levels(p)
	met := map[string]bool{}
	for _, e := range p.Errors {
		m.fault(e.Words, met)
	}
	for _, a := range p.Answers {
		m.answers[a.Question] = append(m.answers[a.Question], a.Answer)
	}
	return p
}

func (m *Maker) levels(p *Play) {
	type sum struct {
		tries   int
		seconds float64
		won     bool
	}
	sums := map[string]*sum{}
	for _, run := range p.Runs {
		x := sums[run.Level]
		if x == nil {
			x = &sum{}
			sums[run.Level] = x
			if m.report.samples.levels[run.Level] == nil {
				m.report.samples.levels[run.Level] = &levelSums{}
				m.order = append(m.order, run.Level)
			}
		}
		if x.won { // played again for pleasure
			continue
		}
		x.tries, x.seconds, x.won = x.tries+1, x.seconds+p.played(run.Span), run.Won
	}
	for name, x := range sums {
		l := m.report.samples.levels[name]
		l.reached, l.allTries, l.allSeconds = l.reached+1, l.allTries+x.tries, l.allSeconds+x.seconds
		if x.won {
			l.won, l.tries, l.seconds = l.won+1, append(l.tries, float64(x.tries)), append(l.seconds, x.seconds)
		}
		if p.Stopped == name {
			l.stopped++
		}
	}
}

// mostMessages is how many different errors are told apart.
const mostMessages = 1000

func (m *Maker) fault(message string, met map[string]bool) {
	x := m.errors[message]
	if x == nil && len(m.errors) >= mostMessages {
		message = "others"
		x = m.errors[message]
	}
	if x == nil {
		x = &Error{Message: message}
		m.errors[message] = x
	}
	x.Times++
	if !met[message] {
		met[message] = true
		x.Testers++
	}
}

// Report is what all sessions so far mean.
func (m *Maker) Report() *Report {
	r := m.report
	r.Levels, r.Frames, r.Errors, r.Answers = []Level{}, []Frames{}, []Error{}, []Answer{}
	r.Seconds, r.Shown = median(r.samples.lengths), median(r.samples.shown)
	slices.SortStableFunc(m.order, func(a, b string) int { // numbered levels in their order
		x, errX := strconv.ParseFloat(a, 64)
		y, errY := strconv.ParseFloat(b, 64)
		if errX != nil || errY != nil {
			return 0
		}
		return cmp.Compare(x, y)
	})
	for _, name := range m.order {
		s := r.samples.levels[name]
		l := Level{
			Name:    name,
			Reached: s.reached,
			Won:     s.won,
			Stopped: s.stopped,
			Tries:   median(s.tries),
			Seconds: median(s.seconds),
			Hard:    []string{},
		}
		if s.won > 0 {
			l.PerWin, l.Cost = float64(s.allTries)/float64(s.won), s.allSeconds/float64(s.won)
		}
		r.Levels = append(r.Levels, l)
		r.Finished = s.won
	}
	compareLevels(r.Levels)
	for _, class := range Classes {
		if list := r.samples.frames[class]; len(list) > 0 {
			r.Frames = append(r.Frames, Frames{class, len(list), median(list), slices.Min(list)})
		}
	}
	for _, x := range m.errors {
		r.Errors = append(r.Errors, *x)
	}
	slices.SortFunc(r.Errors, func(a, b Error) int {
		return cmp.Or(cmp.Compare(b.Testers, a.Testers), cmp.Compare(b.Times, a.Times), strings.Compare(a.Message, b.Message))
	})
	for q, given := range m.answers {
		r.Answers = append(r.Answers, Answer{q, given})
	}
	slices.SortFunc(r.Answers, func(a, b Answer) int { return cmp.Compare(a.Question, b.Question) })
	return &r
}

// What makes a level hard: it costs so much more than the one in the middle, and enough testers reached it to say so.
const (
	hardTimes   = 1.75
	hardReached = 3
	hardLevels  = 3 // with fewer there is no middle
)

// compareLevels reads difficulty two ways: by tries and by time. What nobody won counts as hard in both.
func compareLevels(levels []Level) {
	var tries, cost []float64
	for _, l := range levels {
		if l.Won > 0 {
			tries, cost = append(tries, l.PerWin), append(cost, l.Cost)
		}
	}
	for i := range levels {
		l := &levels[i]
		if l.Reached < hardReached || len(levels) < hardLevels {
			continue
		}
		if l.Won == 0 || l.PerWin > hardTimes*median(tries) {
			l.Hard = append(l.Hard, "tries")
		}
		if l.Won == 0 || l.Cost > hardTimes*median(cost) {
			l.Hard = append(l.Hard, "time")
		}
	}
}

// median is the middle of values; 0 of none.
func median(list []float64) float64 {
	if len(list) == 0 {
		return 0
	}
	list = slices.Sorted(slices.Values(list))
	n := len(list)
	return (list[(n-1)/2] + list[n/2]) / 2
}
