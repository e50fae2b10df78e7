package round

import (
	"strconv"
	"strings"
	"time"
)

// A Play is how one session went.
type Play struct {
	ID        string
	Opened    time.Time
	Device    Device
	Started   bool
	Length    int64 // milliseconds from its begin to the last that was heard
	Away      []Span
	Shown     int64 // milliseconds to the first picture; -1 when none was seen
	Runs      []Run
	Frames    []Rate
	Errors    []Fault
	Presses   int        // keys, touches and clicks
	Heat      [Cells]int // where on the picture they touched or clicked
	Inferred  bool       // the game says nothing of itself: play began with the first press after the first picture
	Values    []Mark     // statistics
	Answers   []Said
	Clip      int64  // bytes
	ClipBegan int64  // milliseconds after the session began; -1 without
	Stopped   string // the level in which it ended, not won; "" when it did not
}

// The picture's cells, in which presses are counted.
const (
	Columns = 16
	Cells   = Columns * 9
)

// A Fault is an error that the game met.
type Fault struct {
	Mark
	File, Line, Column, Stack string
}

// A Span is a time, in milliseconds after the session began.
type Span struct{ From, To int64 }

// A Run is one try at a level.
type Run struct {
	Level string
	Span
	Ended bool // else it broke off: the next one began, or nothing more came
	Won   bool
}

// A Rate is how smoothly it ran over some seconds.
type Rate struct {
	At  int64
	FPS float64
}

// A Mark is something that happened once.
type Mark struct {
	At    int64
	Words string
}

// Said is an answer to a question, by its number from 0.
type Said struct {
	Question int
	Answer   string
}

// Follow works out how a session went.
func Follow(s *Session) *Play {
	p := &Play{ID: s.ID, Opened: s.Opened, Device: s.Device, Shown: -1, Clip: s.Clip, ClipBegan: -1}
	f := follower{Play: p, away: -1}
	for _, e := range s.Events {
		f.take(e)
	}
	p.end(f.away)
	if !f.says && f.pressed && p.Presses > 0 {
		p.Started, p.Inferred = true, true
	}
	return p
}

// A follower goes through a session's events.
type follower struct {
	*Play
	away    int64 // since when the player is away; -1 for not
	says    bool  // the game says something of itself
	pressed bool  // something was pressed after the first picture
}

func (f *follower) take(e Event) {
	if e.Kind != "answer" { // answers come after the game
		f.Length = max(f.Length, e.At)
	}
	switch e.Kind {
	case "event":
		f.says = true
		f.event(e)
	case "shown":
		if f.Shown < 0 {
			f.Shown = e.At
		}
	case "presses":
		f.press(e.Data)
		f.pressed = f.pressed || f.Shown >= 0
	case "paused":
		f.away = e.At
	case "resumed":
		if f.away >= 0 {
			f.Away = append(f.Away, Span{f.away, max(f.away, e.At)})
		}
		f.away = -1
	case "clip":
		if f.ClipBegan < 0 {
			f.ClipBegan = e.At
		}
	default:
		f.note(e)
	}
}

// note keeps what an event tells.
func (p *Play) note(e Event) {
	d := e.Data
	switch e.Kind {
	case "frames":
		if fps, err := strconv.ParseFloat(string(d.FPS), 64); err == nil && fps >= 0 && fps < 1000 {
			p.Frames = append(p.Frames, Rate{e.At, fps})
		}
	case "error":
		p.Errors = append(p.Errors, Fault{Mark{e.At, string(d.Message)}, string(d.File), string(d.Line), string(d.Column), string(d.Stack)})
	case "answer":
		if q, err := strconv.Atoi(string(d.Question)); err == nil && q >= 0 && q < 100 {
			p.Answers = append(p.Answers, Said{q, string(d.Answer)})
		}
	}
}

// mostPresses bounds what one tester is believed to have pressed.
const mostPresses = 1_000_000

func (p *Play) press(d Data) {
	if n, err := strconv.Atoi(string(d.Count)); err == nil && n > 0 {
		p.Presses = min(mostPresses, p.Presses+min(n, mostPresses))
	}
	for one := range strings.FieldsSeq(string(d.Cells)) {
		cell, count, _ := strings.Cut(one, ":")
		at, wrong := strconv.Atoi(cell)
		n, bad := strconv.Atoi(count)
		if wrong == nil && bad == nil && at >= 0 && at < Cells && n > 0 {
			p.Heat[at] = min(mostPresses, p.Heat[at]+min(n, mostPresses))
		}
	}
}

func (p *Play) event(e Event) {
	switch e.Data.Event {
	case "play-begun":
		p.Started = true
	case "level-begun":
		p.Started = true
		p.cut(e.At)
		p.Runs = append(p.Runs, Run{Level: string(e.Data.Level), Span: Span{e.At, e.At}})
	case "level-ended":
		if r := p.open(); r != nil && r.Level == string(e.Data.Level) {
			r.To, r.Ended, r.Won = max(r.From, e.At), true, e.Data.Won == "true"
		}
	case "statistic":
		p.Values = append(p.Values, Mark{e.At, string(e.Data.Name) + " " + string(e.Data.Value)})
	}
}

// open is the try that goes on.
func (p *Play) open() *Run {
	if n := len(p.Runs); n > 0 && !p.Runs[n-1].Ended {
		return &p.Runs[n-1]
	}
	return nil
}

// cut ends a try that the game did not end.
func (p *Play) cut(at int64) {
	if r := p.open(); r != nil {
		r.To = max(r.From, at)
	}
}

func (p *Play) end(away int64) {
	p.cut(p.Length)
	if away >= 0 && p.Length > away {
		p.Away = append(p.Away, Span{away, p.Length})
	}
	if n := len(p.Runs); n > 0 {
		last := p.Runs[n-1].Level
		won := false
		for _, r := range p.Runs {
			won = won || r.Level == last && r.Won
		}
		if !won {
			p.Stopped = last
		}
	}
}

// played is how much of a time the page was in sight, in seconds.
func (p *Play) played(s Span) float64 {
	ms := s.To - s.From
	for _, a := range p.Away {
		ms -= max(0, min(a.To, s.To)-max(a.From, s.From))
	}
	return float64(max(0, ms)) / 1000
}

// FPS is the median of how smoothly it ran, in frames a second; 0 when nothing is known.
func (p *Play) FPS() float64 {
	var list []float64
	for _, f := range p.Frames {
		list = append(list, f.FPS)
	}
	return median(list)
}
