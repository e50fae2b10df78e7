// Package page writes what came back of a round as one HTML page that holds everything it shows, plots and clips, and asks nothing of any
// other machine. What the figures mean is left to round.
package page

import (
	"bytes"
	"cmp"
	_ "embed" // the page
	"encoding/base64"
	"fmt"
	"html/template"
	"io"
	"math"
	"slices"
	"strings"
	"time"

	"havvel/internal/round"
	"havvel/internal/webm"
)

// A Page is what is written.
type Page struct {
	Title, Version string
	Opened, Until  time.Time
	Round          string // its id
	Opens          int    // how often the page of the round was opened
	Questions      []round.Question
	Report         *round.Report
	Plays          []*round.Play
	More           int               // sessions that are not among Plays
	Clips          map[string][]byte // by session
	LeftOut        int               // clips that did not fit
	Against        string            // which round Changes compare with
	Changes        []round.Change
}

// What a page shows at most, so that a browser opens it.
const (
	MostSessions = 200
	MostClips    = 96 << 20 // bytes
)

//go:embed page.html
var pageText string

var layout = template.Must(template.New("page").Funcs(template.FuncMap{
	"seconds": seconds, "clock": clock, "share": share, "day": func(t time.Time) string { return t.UTC().Format("2 January 2006 15:04 UTC") },
	"within":    func(i round.Interval) string { return i.Words(round.Percent) },
	"span":      func(i round.Interval) string { return i.Words(seconds) },
	"rates":     func(i round.Interval) string { return i.Words(amount) },
	"bracketed": func(i round.Interval) string { return i.Bracketed(seconds) },
	"plus":      func(a, b int) int { return a + b }, "amount": amount,
}).Parse(pageText))

// Write writes the page.
func Write(w io.Writer, p *Page) error {
	v := view{Page: p, Heat: heat(p.Report.Heat)}
	var err error
	if v.Funnel, err = funnel(p.Report.Levels); err != nil {
		return fmt.Errorf("drawing the funnel: %w", err)
	}
	if v.Difficulty, err = difficulty(p.Report.Levels); err != nil {
		return fmt.Errorf("drawing how hard levels are: %w", err)
	}
	if v.Staying, err = staying(p.Report.Stayed, p.Report.Started); err != nil {
		return fmt.Errorf("drawing how long they stayed: %w", err)
	}
	if v.Rates, err = rates(p.Plays); err != nil {
		return fmt.Errorf("drawing how it ran: %w", err)
	}
	for i, play := range p.Plays {
		s := lineOf(play, longest(p.Plays))
		s.Number = i + 1
		if clip := p.Clips[play.ID]; clip != nil {
			if whole, err := webm.Seekable(clip); err == nil {
				clip = whole
			}
			s.Clip = template.URL("data:video/webm;base64," + base64.StdEncoding.EncodeToString(clip))
		}
		v.Sessions = append(v.Sessions, s)
	}
	slices.SortStableFunc(v.Sessions, func(a, b *session) int { return min(1, len(b.Clip)) - min(1, len(a.Clip)) }) // those with a clip first
	for _, a := range p.Report.Answers {
		v.Answers = append(v.Answers, p.answers(a))
	}
	return layout.Execute(w, v)
}

// view is a page as its layout takes it.
type view struct {
	*Page
	Funnel, Difficulty, Rates, Staying, Heat template.HTML
	Sessions                                 []*session
	Answers                                  []answers
}

// heat draws how often the cells of the picture were pressed; nothing where none was.
func heat(cells []int) template.HTML {
	if len(cells) == 0 {
		return ""
	}
	most := slices.Max(cells)
	var b strings.Builder
	fmt.Fprintf(&b, `<svg viewBox="0 0 %d %d" role="img" aria-label="where they pressed">`, round.Columns*10, len(cells)/round.Columns*10)
	for i, n := range cells {
		fmt.Fprintf(&b, `<rect x="%d" y="%d" width="9.5" height="9.5" fill="%s" fill-opacity="%.2f"><title>%d</title></rect>`,
			i%round.Columns*10, i/round.Columns*10, "#c25b3f", 0.04+0.96*float64(n)/float64(most), n)
	}
	return template.HTML(b.String() + "</svg>")
}

// answers are those to one question: counted, or as they were written.
type answers struct {
	Ask   string
	Bars  []bar
	Texts []round.Count
	Total int
}

type bar struct {
	Label string
	Count int
	Wide  float64 // per cent
}

func (p *Page) answers(a round.Answer) answers {
	v := answers{Ask: fmt.Sprintf("Question %d", a.Question+1), Total: len(a.Given)}
	var choices []string
	if a.Question < len(p.Questions) {
		q := p.Questions[a.Question]
		v.Ask, choices = q.Ask, q.Choices
		if q.Kind == "scale" {
			choices = []string{"1", "2", "3", "4", "5"}
		}
	}
	if choices == nil {
		v.Texts = a.Grouped()
		return v
	}
	for _, c := range choices {
		n := 0
		for _, g := range a.Given {
			if g == c {
				n++
			}
		}
		v.Bars = append(v.Bars, bar{c, n, 100 * float64(n) / float64(max(1, len(a.Given)))})
	}
	return v
}

// A session is drawn as a line of time.
type session struct {
	*round.Play
	Number int
	Blocks []block
	Away   []block
	Ticks  []block
	Rate   template.HTMLAttr // points of its frames
	Marks  []mark
	Clip   template.URL
}

// A block is a stretch of the line, in per cent of its width.
type block struct {
	At, Wide float64
	Label    string
	Kind     string // won, lost, open
	Title    string
}

// A mark is something to jump to in the clip.
type mark struct {
	Clock   string
	Seconds float64 // in the clip
	Words   string
	Kind    string
}

// longest is the length that all lines are drawn to, in milliseconds.
func longest(plays []*round.Play) int64 {
	most := int64(1)
	for _, p := range plays {
		most = max(most, p.Length)
	}
	return most
}

func lineOf(p *round.Play, whole int64) *session {
	s := &session{Play: p}
	at := func(ms int64) float64 { return 100 * float64(ms) / float64(whole) }
	for _, r := range p.Runs {
		kind, words := "open", "given up or begun anew"
		if r.Ended {
			kind, words = "lost", "not won"
		}
		if r.Won {
			kind, words = "won", "won"
		}
		s.Blocks = append(
			s.Blocks,
			block{
				at(r.From),
				at(r.To - r.From),
				r.Level,
				kind,
				fmt.Sprintf("level %s, %s after %s", r.Level, words, seconds(float64(r.To-r.From)/1000)),
			},
		)
		s.mark(r.From, "level "+r.Level+" begun", "begun")
		if r.Ended {
			s.mark(r.To, "level "+r.Level+" "+words, kind)
		}
	}
	for _, a := range p.Away {
		s.Away = append(s.Away, block{At: at(a.From), Wide: at(a.To - a.From), Title: "away for " + seconds(float64(a.To-a.From)/1000)})
		s.mark(a.From, "looked away", "away")
	}
	for _, e := range p.Errors {
		s.Ticks = append(s.Ticks, block{At: at(e.At), Title: clock(e.At) + " " + e.Words})
		s.mark(e.At, "error: "+e.Words, "error")
	}
	for _, v := range p.Values {
		s.mark(v.At, v.Words, "value")
	}
	slices.SortStableFunc(s.Marks, func(a, b mark) int { return cmp.Compare(a.Seconds, b.Seconds) })
	var points bytes.Buffer
	for _, f := range p.Frames {
		fmt.Fprintf(&points, "%.2f,%.1f ", at(f.At), 24-24*min(f.FPS, 72)/72)
	}
	s.Rate = template.HTMLAttr(`points="` + points.String() + `"`)
	return s
}

// mark notes something; its place in the clip is before it, so that one sees it coming.
func (s *session) mark(at int64, words, kind string) {
	s.Marks = append(s.Marks, mark{clock(at), max(0, float64(at-max(0, s.ClipBegan))/1000-1), words, kind})
}

// clock writes milliseconds as minutes and seconds.
func clock(ms int64) string { return fmt.Sprintf("%d:%02d", ms/60000, ms/1000%60) }

// seconds writes a length as people do; nothing where there is none.
func seconds(v float64) string {
	switch {
	case v == 0:
		return ""
	case v < 10:
		return fmt.Sprintf("%.1fs", v)
	case v < 100:
		return fmt.Sprintf("%.0fs", v)
	}
	whole := int(math.Round(v))
	return fmt.Sprintf("%dm %ds", whole/60, whole%60)
}

// amount writes a number without zeros behind it; nothing for 0.
func amount(v float64) string {
	if v == 0 {
		return ""
	}
	if v == float64(int(v)) {
		return fmt.Sprint(int(v))
	}
	return fmt.Sprintf("%.1f", v)
}

func share(part, whole int) string {
	if whole == 0 {
		return ""
	}
	return round.Percent(float64(part) / float64(whole))
}
