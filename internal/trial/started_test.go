package trial

import (
	"bytes"
	"image"
	"image/color"
	"image/draw"
	"image/jpeg"
	"image/png"
	"strings"
	"testing"
	"time"
)

// TestStarting: what is said of runs, moment by moment; a press is tried where the rule wants one.
func TestStarting(t *testing.T) {
	const limit = 20 * time.Second
	sec := func(s float64) time.Duration { return time.Duration(s * float64(time.Second)) }
	failed := &failure{Words: "lane.pack: it is not there", Fix: "put it in"}
	for name, c := range map[string]struct {
		at         func(m *moment) // fills what is known at that time
		own        float64         // of the time, what the browser was given
		before     float64         // share that changed before and after a press
		after      float64
		loads      string // what is waited for after a press
		want       Answer
		says       string
		from, to   time.Duration // between which a yes must say that it started
		ownUnknown bool
		byTime     bool
		by         time.Duration // when a no must have been said at the latest
	}{
		"it moves": {at: func(m *moment) { m.Visible, m.Since, m.Changed = m.At > sec(1), sec(1), 0.4 }, want: Yes, from: sec(1), to: sec(1)},
		"a bar, then it moves": {at: func(m *moment) {
			m.Visible, m.Since, m.Changed, m.Pattern, m.Ended = m.At > sec(0.5), sec(0.5), 0.02, sec(0.5), min(m.At, sec(4))
			if m.At > sec(4) {
				m.Changed, m.Pattern = 0.3, sec(4.1)
			}
		}, want: Yes, from: sec(4), to: sec(4.2)},
		"it plays while bytes arrive": {at: func(m *moment) {
			m.Visible, m.Since, m.Changed, m.Ended, m.Work = true, sec(0.5), 0.5, m.At, "night.pack"
		}, want: Yes, from: sec(0.5), to: sec(0.5)},
		"a bar while bytes arrive": {at: func(m *moment) {
			m.Visible, m.Changed, m.Ended, m.Work = true, 0.03, m.At, "night.pack"
		}, want: No, says: "it still waits for night.pack", byTime: true},
		"a title that answers a press": {at: func(m *moment) { m.Visible, m.Since = true, sec(1) }, after: 0.5, want: Yes, from: sec(1),
			to: sec(1)},
		"a title that waits for a file when it is pressed": {at: func(m *moment) { m.Visible, m.Since = true, sec(1) }, after: 0.05,
			loads: "night.pack", want: Untold, says: "waits for night.pack"},
		"a title that moves when it is pressed, and loads on": {at: func(m *moment) { m.Visible, m.Since = true, sec(1) }, after: 0.5,
			loads: "night.pack", want: Yes, from: sec(1), to: sec(1)},
		"a title that doesn't": {at: func(m *moment) { m.Visible = true }, want: Untold, says: "stands still"},
		"a spinner": {at: func(m *moment) { m.Visible, m.Changed = true, 0.01 }, before: 0.01, after: 0.01, want: Untold,
			says: "small moves"},
		"a bar that stands, with an exception": {at: func(m *moment) { m.Visible, m.Failure = true, failed }, want: No,
			says: "lane.pack: it is not there"},
		"nothing":               {at: func(*moment) {}, want: No, says: "nothing is to be seen"},
		"nothing, and an error": {at: func(m *moment) { m.Failure = failed }, want: No, says: "lane.pack"},
		"loading begun, a file refused": {at: func(m *moment) {
			m.Visible, m.Begun, m.Failure = true, true, &failure{Words: "rules.wasm: refused", Lasting: true}
		}, want: No, says: "rules.wasm", by: sec(11)},
		"a file refused, and fetched in the end": {at: func(m *moment) {
			m.Visible, m.Since, m.Begun, m.Failure = true, sec(0.5), true, &failure{Words: "rules.wasm: refused", Lasting: true}
			m.Ended = m.At - m.At%sec(6)
			m.Done = doneAt(m.At, sec(18))
		}, want: Yes, from: sec(18), to: sec(18)},
		"of one colour":          {at: func(m *moment) { m.Pattern = sec(1) }, want: Untold, says: "of one colour"},
		"it says when":           {at: func(m *moment) { m.Visible, m.Done = true, doneAt(m.At, sec(1)) }, want: Yes, from: sec(1), to: sec(1)},
		"loading begun for ever": {at: func(m *moment) { m.Visible, m.Begun, m.Changed = true, true, 0.5 }, want: No, says: "never done"},
		"a crash":                {at: func(m *moment) { m.Crashed = m.At > sec(2) }, want: No, says: "crashed"},
		"a loop":                 {at: func(m *moment) { m.Visible, m.Answered = true, min(m.At, sec(1)) }, want: No, says: "stopped answering"},
		"a starved machine":      {at: func(m *moment) { m.Answered = min(m.At, sec(1)) }, own: 0.05, want: Untold, says: "little time"},
		"nothing, when starved":  {at: func(*moment) {}, own: 0.05, want: Untold, says: "only"},
		"a slow machine, it moves": {at: func(m *moment) { m.Visible, m.Since, m.Changed = true, sec(1), 0.3 }, own: 0.3, want: Yes,
			from: sec(1), to: sec(1)},
	} {
		t.Run(name, func(t *testing.T) {
			s, own := &starting{}, c.own
			if own == 0 {
				own = 1
			}
			var m moment
			for at := sec(0.15); ; at += sec(0.15) {
				m = moment{At: at, Own: time.Duration(float64(at) * own), Answered: at, Ended: sec(0.2)}
				c.at(&m)
				if s.next(m) {
					break
				}
				if m.Own > limit || at > patience*limit {
					s.end(m, limit)
					break
				}
			}
			if s.WantsTo {
				m.Work, m.Changed = c.loads, c.after
				s.after(m, c.before, c.after, false)
			}
			if s.Answer != c.want || !strings.Contains(s.Why.Words, c.says) || s.ByTime != c.byTime {
				t.Errorf("%s %q by time %v, want %s %q", s.Answer, s.Why.Words, s.ByTime, c.want, c.says)
			}
			if c.by > 0 && m.At > c.by {
				t.Errorf("it took until %s to say no", m.At)
			}
			if c.want == Yes && (s.At < c.from || s.At > c.to) {
				t.Errorf("it started at %s, want between %s and %s", s.At, c.from, c.to)
			}
		})
	}
}

// TestEager: where nothing moves, a press is wanted early, and once more later if nothing came of it.
func TestEager(t *testing.T) {
	sec := func(s float64) time.Duration { return time.Duration(s * float64(time.Second)) }
	s := &starting{Eager: true}
	var asked []time.Duration
	for at := sec(0.15); at < sec(8) && s.Answer == ""; at += sec(0.15) {
		m := moment{At: at, Own: at, Answered: at, Visible: true, Ended: sec(0.2)}
		if s.next(m); s.WantsTo {
			asked = append(asked, at)
			s.after(m, 0, 0, false)
		}
	}
	if len(asked) != 2 || asked[0] > sec(3.2) || asked[1] < sec(4.2) || s.Answer != Untold {
		t.Errorf("pressed at %s, and then %q", asked, s.Answer)
	}
	s = &starting{Eager: true, WantsTo: true}
	if s.after(moment{}, 0, 0.1, false); s.Answer != Yes {
		t.Errorf("a press that shows at once: %q", s.Answer)
	}
}

// doneAt is when something was said, once it was.
func doneAt(now, at time.Duration) time.Duration {
	if now < at {
		return 0
	}
	return at
}

// TestSight: what can be seen, and how much of it has changed since a time.
func TestSight(t *testing.T) {
	shot := func(at func(x, y int) color.Color) []byte {
		m := image.NewRGBA(image.Rect(0, 0, 160, 90))
		for y := range 90 {
			for x := range 160 {
				m.Set(x, y, at(x, y))
			}
		}
		var b bytes.Buffer
		if err := jpeg.Encode(&b, m, &jpeg.Options{Quality: 50}); err != nil {
			t.Fatal(err)
		}
		return b.Bytes()
	}
	night := color.RGBA{16, 32, 48, 255}
	box := func(left int) []byte {
		return shot(func(x, y int) color.Color {
			if x >= left && x < left+40 && y >= 30 && y < 60 {
				return color.RGBA{255, 200, 100, 255}
			}
			return night
		})
	}
	begin := time.Now()
	var s sight
	s.look(shot(func(int, int) color.Color { return color.Black }), begin)
	if visible, _ := s.told(); visible {
		t.Error("black is seen")
	}
	s.look(shot(func(int, int) color.Color { return night }), begin.Add(time.Second))
	if visible, _ := s.told(); visible {
		t.Error("one colour is seen")
	}
	s.look(box(20), begin.Add(2*time.Second))
	if visible, first := s.told(); !visible || first != begin.Add(2*time.Second) {
		t.Errorf("a lantern is not seen (%v)", first)
	}
	s.look(box(20), begin.Add(3*time.Second))
	if share := s.since(begin.Add(2500 * time.Millisecond)); share > 0 {
		t.Errorf("nothing moved, and %.3f has changed", share)
	}
	s.look(box(60), begin.Add(4*time.Second))
	if share := s.since(begin.Add(3500 * time.Millisecond)); share < 0.13 || share > 0.22 { // the lantern's old and new place
		t.Errorf("a lantern moved, and %.3f has changed", share)
	}
	s.look([]byte("broken"), begin.Add(5*time.Second))
	if s.many() != 5 {
		t.Errorf("%d pictures", s.many())
	}
}

// TestSightOfAPhone: a screencast's pictures of a narrow window are a pixel lower than others of it, and what changed is kept all the same. A
// word of few pixels is seen.
func TestSightOfAPhone(t *testing.T) {
	shot := func(high int, word bool) []byte {
		m := image.NewRGBA(image.Rect(0, 0, 390, high))
		draw.Draw(m, m.Bounds(), image.NewUniform(color.RGBA{24, 40, 56, 255}), image.Point{}, draw.Src)
		if word {
			draw.Draw(m, image.Rect(190, 420, 201, 425), image.White, image.Point{}, draw.Src)
		}
		var b bytes.Buffer
		if err := jpeg.Encode(&b, m, nil); err != nil {
			t.Fatal(err)
		}
		return b.Bytes()
	}
	begin := time.Now()
	var s sight
	s.look(shot(844, false), begin)
	if visible, _ := s.told(); visible {
		t.Error("one colour is seen")
	}
	s.look(shot(844, true), begin.Add(time.Second))
	s.look(shot(842, true), begin.Add(2*time.Second))
	if visible, _ := s.told(); !visible || s.since(begin.Add(500*time.Millisecond)) == 0 {
		t.Errorf("the word is seen: %v, and of what changed there is %v", visible, s.since(begin.Add(500*time.Millisecond)))
	}
}

// TestSightOfTwoKinds: what one kind of picture has shown already is no news when another kind shows it, however late: a page that was blank
// in the last picture of that kind has not changed since.
func TestSightOfTwoKinds(t *testing.T) {
	begin := time.Now()
	var s sight
	look := func(kind string, light uint8, at time.Duration) {
		t.Helper()
		m := image.NewGray(image.Rect(0, 0, 960, 540))
		for i := range m.Pix {
			m.Pix[i] = light
		}
		var b bytes.Buffer
		err := png.Encode(&b, m)
		if kind == "jpeg" {
			b.Reset()
			err = jpeg.Encode(&b, m, nil)
		}
		if err != nil {
			t.Fatal(err)
		}
		s.look(b.Bytes(), begin.Add(at))
	}
	look("png", 255, 0) // before anything was drawn
	look("jpeg", 20, time.Second)
	if share := s.since(begin); share < 1 {
		t.Errorf("all changed before the first picture of a kind, and %.2f is said to have", share)
	}
	look("png", 20, 5*time.Second)
	if share := s.since(begin.Add(4 * time.Second)); share > 0 {
		t.Errorf("nothing changed, and %.2f is said to have", share)
	}
	look("jpeg", 120, 6*time.Second) // a press
	if share := s.since(begin.Add(5 * time.Second)); share < 1 {
		t.Errorf("all changed, and %.2f is said to have", share)
	}
	look("png", 120, 8*time.Second)
	if share := s.since(begin.Add(7 * time.Second)); share > 0 {
		t.Errorf("nothing changed since, and %.2f is said to have", share)
	}
	look("jpeg", 60, 8500*time.Millisecond) // our own doing
	s.dismiss(begin.Add(8 * time.Second))
	look("png", 60, 8700*time.Millisecond)
	if share := s.since(begin.Add(8 * time.Second)); share > 0 {
		t.Errorf("what was dismissed comes back: %.2f", share)
	}
	look("png", 200, 9*time.Second)
	if share := s.since(begin.Add(8 * time.Second)); share < 1 {
		t.Errorf("all changed again, and %.2f is said to have", share)
	}
}
