package round

import (
	"bufio"
	"cmp"
	"encoding/json"
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"
)

// A Session is what came back of one tester.
type Session struct {
	ID        string
	Device    Device
	Simulated bool
	Events    []Event
}

// An Event is one thing that happened.
type Event struct {
	At   int64 // milliseconds after the session began
	Kind string
	Data map[string]any
}

// longestLine is the most that one line may hold, in bytes.
const longestLine = 1 << 20

// Read reads what came back of a round, as the host exports it.
func Read(r io.Reader) ([]*Session, error) {
	var list []*Session
	lines := bufio.NewScanner(r)
	lines.Buffer(make([]byte, 64<<10), longestLine)
	for n := 1; lines.Scan(); n++ {
		var l Line
		if err := json.Unmarshal(lines.Bytes(), &l); err != nil {
			return nil, fmt.Errorf("line %d of what came back can't be read: %w", n, err)
		}
		switch {
		case l.Format > Format:
			return nil, fmt.Errorf("what came back is of format %d; this havvel reads %d", l.Format, Format)
		case l.Format > 0:
			s := &Session{ID: l.Session, Simulated: l.Simulated}
			json.Unmarshal(l.Device, &s.Device) // a device that can't be read is a desk
			list = append(list, s)
		case len(list) == 0 || list[len(list)-1].ID != l.Session:
			return nil, fmt.Errorf("line %d of what came back is of a session that did not begin", n)
		default:
			e := Event{At: l.At, Kind: l.Kind}
			json.Unmarshal(l.Data, &e.Data) // data of another form says nothing that is understood
			s := list[len(list)-1]
			s.Events = append(s.Events, e)
		}
	}
	return list, lines.Err()
}

// A Report is what a round means. Simulated sessions are counted apart, and are in nothing else.
type Report struct {
	Testers   int      `json:"testers"`  // who allowed to be watched
	Started   int      `json:"started"`  // began to play
	Finished  int      `json:"finished"` // won the last level that anybody reached
	Simulated int      `json:"simulated"`
	Levels    []Level  `json:"levels"`
	Frames    []Frames `json:"frames"`
	Errors    []Error  `json:"errors"`
	Answers   []Answer `json:"answers"`
}

// A Level is how one level went, over all testers.
type Level struct {
	Name    string  `json:"level"`
	Reached int     `json:"reached"` // testers who began it
	Won     int     `json:"won"`
	Stopped int     `json:"stopped"` // whose session ended there, not won
	Tries   float64 `json:"tries"`   // median of those who won: how often they began it
	Seconds float64 `json:"seconds"` // likewise: from the first begin to the win
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

// Make works out a report.
func Make(sessions []*Session) *Report {
	r := &Report{Levels: []Level{}, Frames: []Frames{}, Errors: []Error{}, Answers: []Answer{}}
	m := &maker{levels: map[string]*levelSums{}, frames: map[string][]float64{}, errors: map[string]*Error{}, answers: map[int][]string{}}
	for _, s := range sessions {
		if s.Simulated {
			r.Simulated++
			continue
		}
		r.Testers++
		if m.add(s) {
			r.Started++
		}
	}
	m.fill(r)
	return r
}

// maker gathers what sessions say.
type maker struct {
	order   []string // of levels, as they were first reached
	levels  map[string]*levelSums
	frames  map[string][]float64 // by class: a median of each tester
	errors  map[string]*Error
	answers map[int][]string
}

type levelSums struct {
	reached, won, stopped int
	tries, seconds        []float64
}

// add takes in one session, and reports whether its tester began to play.
func (m *maker) add(s *Session) (started bool) {
	type run struct {
		tries int
		began int64
		won   bool
	}
	runs, frames, met := map[string]*run{}, []float64{}, map[string]bool{}
	last := ""
	for _, e := range s.Events {
		switch e.Kind {
		case "frames":
			if fps, ok := e.Data["fps"].(float64); ok {
				frames = append(frames, fps)
			}
		case "error":
			m.fault(text(e.Data["message"]), met)
		case "answer":
			if q, ok := e.Data["question"].(float64); ok && q >= 0 && q < 100 {
				m.answers[int(q)] = append(m.answers[int(q)], text(e.Data["answer"]))
			}
		case "moment":
			level := text(e.Data["level"])
			switch text(e.Data["moment"]) {
			case "play-begun":
				started = true
			case "level-begun":
				started, last = true, level
				if runs[level] == nil {
					runs[level] = &run{began: e.At}
					m.reach(level)
				}
				runs[level].tries++
			case "level-ended":
				if x, won := runs[level], e.Data["won"] == true; x != nil && won && !x.won {
					x.won = true
					sums := m.levels[level]
					sums.won++
					sums.tries, sums.seconds = append(sums.tries, float64(x.tries)), append(sums.seconds, float64(e.At-x.began)/1000)
				}
			}
		}
	}
	if x := runs[last]; x != nil && !x.won {
		m.levels[last].stopped++
	}
	if len(frames) > 0 {
		m.frames[s.Device.Class()] = append(m.frames[s.Device.Class()], median(frames))
	}
	return started
}

func (m *maker) reach(level string) {
	if m.levels[level] == nil {
		m.levels[level] = &levelSums{}
		m.order = append(m.order, level)
	}
	m.levels[level].reached++
}

func (m *maker) fault(message string, met map[string]bool) {
	x := m.errors[message]
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

// text writes a value as people do.
func text(v any) string {
	switch v := v.(type) {
	case string:
		return v
	case float64:
		return strconv.FormatFloat(v, 'f', -1, 64)
	case bool:
		return strconv.FormatBool(v)
	}
	return ""
}

func (m *maker) fill(r *Report) {
	slices.SortStableFunc(m.order, func(a, b string) int { // numbered levels in their order
		x, errX := strconv.ParseFloat(a, 64)
		y, errY := strconv.ParseFloat(b, 64)
		if errX != nil || errY != nil {
			return 0
		}
		return cmp.Compare(x, y)
	})
	for _, name := range m.order {
		s := m.levels[name]
		r.Levels = append(r.Levels, Level{name, s.reached, s.won, s.stopped, median(s.tries), median(s.seconds)})
		r.Finished = s.won
	}
	for _, class := range []string{"desk", "tablet", "phone"} {
		if list := m.frames[class]; len(list) > 0 {
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
