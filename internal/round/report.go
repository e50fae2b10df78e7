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
	Presses     int      `json:"presses"`  // of all testers
	Heat        []int    `json:"heat"`     // where on the picture they pressed: 16 by 9 cells, row by row; empty where nowhere
	Stayed      []Stay   `json:"stayed"`   // how many of those who began to play did so for how long
	Inferred    int      `json:"inferred"` // testers whose game says nothing of itself: they began to play with their first press
	Answers     []Answer `json:"answers"`
	Within      Within   `json:"within"`            // where the figures above are, at 95 %
	Hardest     *Hardest `json:"hardest,omitempty"` // what stands out, or what can't be told; nil without levels to compare
	Cut         int      `json:"cut"`               // events that the host had no room for
	Unread      int      `json:"unread"`            // lines that can't be read

	samples samples
}

// Within says where figures are, at 95 %.
type Within struct {
	Started  Interval `json:"started"`  // share of testers
	Finished Interval `json:"finished"` // share of those who began to play
	Seconds  Interval `json:"seconds"`
	Shown    Interval `json:"first_picture"`
}

// Hardest is what can be said of levels beside each other, or that nothing can.
type Hardest struct {
	Levels  []string `json:"levels"`          // those that stand out, the surest first
	Maybe   string   `json:"maybe,omitempty"` // where nothing does: one that may
	What    string   `json:"what,omitempty"`  // in what way it may: "tries", "time" or "stopped"
	More    int      `json:"more,omitempty"`  // about how many testers more would settle that
	Testers int      `json:"testers"`         // whose levels were compared
	// of a hundred such rounds, those in which a level that 80 % fail would be found where 50 % fail the others
	Finds float64 `json:"would_find"`
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
	Failed  int      `json:"failed"` // whose first try was not won
	Hard    []string `json:"hard"`   // "tries", "time", "stopped": in what it is more than the others, beyond chance

	WonWithin     Interval `json:"won_within"`     // share of those who reached it
	StoppedWithin Interval `json:"stopped_within"` // likewise
	SecondsWithin Interval `json:"seconds_within"`
}

// A Stay is how many testers played for at least so long.
type Stay struct {
	Seconds float64  `json:"seconds"`
	Testers int      `json:"testers"`
	Within  Interval `json:"within"` // share of those who began to play
}

// stays are the times at which it is looked who still plays, in seconds.
var stays = []float64{10, 20, 30, 60, 120, 180, 300, 600, 900, 1200, 1800, 2700, 3600}

// stayed goes on until nobody plays any more.
func stayed(lengths []float64) []Stay {
	list := []Stay{}
	for _, s := range stays {
		n := 0
		for _, l := range lengths {
			if l >= s {
				n++
			}
		}
		if len(lengths) > 0 {
			list = append(list, Stay{s, n, shareWithin(n, len(lengths))})
		}
		if n == 0 {
			break
		}
	}
	return list
}

// Frames is how smoothly it ran on one class of devices.
type Frames struct {
	Class   string  `json:"class"`
	Testers int     `json:"testers"`
	Median  float64 `json:"median"` // frames a second
	Worst   float64 `json:"worst"`  // of a tester's medians

	Within Interval `json:"within"`
}

// An Error is one that the game met.
type Error struct {
	Message string   `json:"message"`
	Testers int      `json:"testers"`
	Times   int      `json:"times"`
	File    string   `json:"file,omitempty"`
	Line    string   `json:"line,omitempty"`
	Column  string   `json:"column,omitempty"`
	Stack   string   `json:"stack,omitempty"`
	Source  string   `json:"source,omitempty"` // file and line in the game's sources, where a source map says so
	On      []string `json:"on,omitempty"`     // browsers, systems and kinds of device that met it
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
	trials         []trial
	heat           [Cells]int
	names          map[string]int       // of levels, to their numbers in trials
	frames         map[string][]float64 // by class: a median of each tester
}

type levelSums struct {
	reached, won, stopped, failed, allTries int
	allSeconds                              float64
	tries, seconds                          []float64 // of those who won
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
		report: Report{OfSimulated: simulated, samples: samples{
			levels: map[string]*levelSums{}, frames: map[string][]float64{}, names: map[string]int{},
		}},
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
	if p.Inferred {
		r.Inferred++
	}
	r.Presses += p.Presses
	for i, n := range p.Heat {
		r.samples.heat[i] += n
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
		m.fault(e, p.Device, met)
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
		failed  bool // the first time
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
		x.failed = x.failed || x.tries == 1 && !run.Won
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
		if x.failed {
			l.failed++
		}
		if m.report.Testers <= mostTried {
			m.report.samples.try(name, trial{tester: m.report.Testers, failed: x.failed, seconds: x.seconds, stopped: p.Stopped == name})
		}
	}
}

// try notes a trial at a level.
func (s *samples) try(level string, t trial) {
	n, ok := s.names[level]
	if !ok {
		n = len(s.names)
		s.names[level] = n
	}
	t.level = n
	s.trials = append(s.trials, t)
}

// mostMessages is how many different errors are told apart.
const mostMessages = 1000

// fault counts an error. Those of one place in the game are one, whatever addresses and numbers their words hold.
func (m *Maker) fault(f Fault, on Device, met map[string]bool) {
	key := place(f)
	x := m.errors[key]
	if x == nil && len(m.errors) >= mostMessages {
		key, f = "others", Fault{Mark: Mark{Words: "others"}}
		x = m.errors[key]
	}
	if x == nil {
		x = &Error{Message: f.Words, File: f.File, Line: f.Line, Column: f.Column, Stack: f.Stack}
		m.errors[key] = x
	}
	x.Times++
	if met[key] {
		return
	}
	met[key] = true
	x.Testers++
	words := on.Words()
	if !slices.Contains(x.On, words) && len(x.On) < mostOn {
		x.On = append(x.On, words)
	}
}

// mostOn is how many kinds of machines an error names.
const mostOn = 20

// place names where in a game an error came from: the innermost calls of its stack, or its file and line; without either, its words.
func place(f Fault) string {
	var calls []string
	for line := range strings.Lines(f.Stack) {
		if at := strings.TrimSpace(line); strings.Contains(at, ":") && at != f.Words && !strings.HasSuffix(at, f.Words) {
			if _, name, ok := strings.Cut(at, "/p/"); ok { // each round has an address of its own
				_, name, _ = strings.Cut(name, "/")
				at = name
			}
			calls = append(calls, at)
		}
		if len(calls) == 3 {
			break
		}
	}
	if len(calls) > 0 {
		return strings.Join(calls, "\n")
	}
	if f.File != "" && f.Line != "" && f.Line != "0" {
		return f.File + ":" + f.Line + " " + f.Words
	}
	return f.Words
}

// Report is what all sessions so far mean.
func (m *Maker) Report() *Report {
	r := m.report
	r.Levels, r.Frames, r.Errors, r.Answers = []Level{}, []Frames{}, []Error{}, []Answer{}
	r.Seconds, r.Shown, r.Stayed = median(r.samples.lengths), median(r.samples.shown), stayed(r.samples.lengths)
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
			Failed:  s.failed,
			Hard:    []string{},

			WonWithin: shareWithin(s.won, s.reached), StoppedWithin: shareWithin(s.stopped, s.reached), SecondsWithin: medianWithin(s.seconds),
		}
		if s.won > 0 {
			l.PerWin, l.Cost = float64(s.allTries)/float64(s.won), s.allSeconds/float64(s.won)
		}
		r.Levels = append(r.Levels, l)
		r.Finished = s.won
	}
	r.Heat = []int{}
	if slices.ContainsFunc(r.samples.heat[:], func(n int) bool { return n > 0 }) {
		r.Heat = slices.Clone(r.samples.heat[:])
	}
	r.Within = Within{
		Started: shareWithin(r.Started, r.Testers), Finished: shareWithin(r.Finished, r.Started),
		Seconds: medianWithin(r.samples.lengths), Shown: medianWithin(r.samples.shown),
	}
	r.compareLevels()
	for _, class := range Classes {
		if list := r.samples.frames[class]; len(list) > 0 {
			r.Frames = append(r.Frames, Frames{class, len(list), median(list), slices.Min(list), medianWithin(list)})
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

// compareLevels says which levels stand out, beyond chance.
func (r *Report) compareLevels() {
	const fewest = 3 // with fewer there is nothing that others are
	if len(r.Levels) < fewest {
		return
	}
	order := make([]int, len(r.samples.names)) // the places of levels, by their numbers in trials
	for i, l := range r.Levels {
		order[r.samples.names[l.Name]] = i
	}
	testers := map[int]bool{}
	trials := slices.Clone(r.samples.trials)
	for i, t := range trials {
		testers[t.tester] = true
		trials[i].level = order[t.level]
	}
	hold, next := said(claims(trials, len(r.Levels)))
	h := &Hardest{Levels: []string{}, Testers: len(testers), Finds: findable(len(testers), len(r.Levels))}
	for _, c := range hold {
		l := &r.Levels[c.level]
		l.Hard = append(l.Hard, c.what)
		if !slices.Contains(h.Levels, l.Name) {
			h.Levels = append(h.Levels, l.Name)
		}
	}
	if len(hold) == 0 && next != nil {
		if h.More = more(next, len(testers)); h.More > 0 {
			h.Maybe, h.What = r.Levels[next.level].Name, next.what
		}
	}
	r.Hardest = h
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
