package trial

import (
	"context"
	"fmt"
	"regexp"
	"strconv"
	"strings"
	"time"

	"havvel/internal/browser"
)

// An action is what a step does.
type action = func(context.Context, *viewer) error

// A Step is one thing that a trial does once the game has started. Parse makes one of a line such as:
//
//	wait 500ms
//	press Enter
//	hold ArrowRight for 500ms
//	tap 50% 80%
//	right-press 50% 80%
//	hover 50% 80%
//	wheel 300
//	rotate
//	pad A
//	hide for 2s
//	offline for 2s
//	drag 10% 50% to 90% 50%
//	picture first night
//	expect event level-begun within 5s
//	expect statistic lanterns within 5s
//	expect call Portal.ready
//	expect text Night two
//	expect value lantern.lit is 3
//	expect picture first night up to 20%
//	for 3: press ArrowRight; wait 200ms
type Step struct {
	Line string

	do action
}

var (
	expectLine = regexp.MustCompile(`^(event|statistic|call) (\S+)( within (\S+))?$`)
	forLine    = regexp.MustCompile(`^(\d{1,3}): (.+)$`)
)

// Parse reads a step. The error says what can stand there.
func Parse(line string) (Step, error) {
	line = strings.Join(strings.Fields(line), " ")
	word, rest, _ := strings.Cut(line, " ")
	s := Step{Line: line}
	read := words()[word]
	if read == nil {
		read = func(string) (action, error) {
			return nil, fmt.Errorf("a step begins with wait, press, hold, down, up, tap, right-press, hover, wheel, drag, rotate, pad, hide, " +
				"offline, picture, expect or for")
		}
	}
	var err error
	if s.do, err = read(rest); err != nil {
		return s, fmt.Errorf("the step %q: %w", line, err)
	}
	return s, nil
}

// words are those that steps begin with, and what reads the rest of the line.
func words() map[string]func(rest string) (action, error) {
	return map[string]func(string) (action, error){
		"wait": wait, "press": press, "hold": hold, "tap": tap, "right-press": rightPress, "hover": hover, "wheel": wheel, "pad": pad,
		"down": down, "up": up, "drag": drag, "picture": snapshot, "expect": expect, "for": repeated,
		"rotate": func(string) (action, error) {
			return func(ctx context.Context, v *viewer) error { return v.rotate(ctx) }, nil
		},
		"hide": func(rest string) (action, error) { return during(rest, (*viewer).hide) },
		"offline": func(rest string) (action, error) {
			return during(rest, func(v *viewer, ctx context.Context, off bool) error { return v.tab.Offline(ctx, off) })
		},
	}
}

func wait(rest string) (action, error) {
	d, err := time.ParseDuration(rest)
	if err == nil && (d < 0 || d > time.Minute) {
		err = fmt.Errorf("%s is too long; a minute is the most", d)
	}
	return func(ctx context.Context, v *viewer) error { v.pause(ctx, d); return ctx.Err() }, err
}

func snapshot(name string) (action, error) {
	if name == "" {
		return nil, fmt.Errorf("the picture needs a name")
	}
	return func(ctx context.Context, v *viewer) error { _, err := v.named(ctx, name); return err }, nil
}

func press(name string) (func(context.Context, *viewer) error, error) {
	if !browser.HasKey(name) {
		return nil, fmt.Errorf(
			"there is no key %q; write a letter, or Enter, Escape, Space, Tab, ArrowLeft, ArrowRight, ArrowUp, ArrowDown",
			name,
		)
	}
	return func(ctx context.Context, v *viewer) error { return v.key(ctx, name, 0) }, nil
}

// point is a place: each part as a share of the side of the game's picture, where it has a canvas, or in pixels of the window.
type point struct {
	x, y   func(side float64) float64
	shares [2]bool
}

func parsePoint(x, y string) (p point, err error) {
	part := func(text string) func(float64) float64 {
		number, share := strings.CutSuffix(text, "%")
		n, failed := strconv.ParseFloat(number, 64)
		if failed != nil || n < 0 {
			err = fmt.Errorf("%q is no place; write it as 50%% 80%%, or in pixels", text)
		}
		return func(side float64) float64 {
			if share {
				return n / 100 * side
			}
			return n
		}
	}
	p.x, p.y = part(x), part(y)
	p.shares = [2]bool{strings.HasSuffix(x, "%"), strings.HasSuffix(y, "%")}
	return p, err
}

func (p point) in(ctx context.Context, v *viewer) (x, y float64) {
	left, top := 0.0, 0.0
	s, err := v.ask(ctx)
	width, height := v.extent(s)
	if err == nil && s.Canvas != nil && s.Canvas.W > 0 && s.Canvas.H > 0 { // bars around it don't count
		left, top, width, height = s.Canvas.X, s.Canvas.Y, s.Canvas.W, s.Canvas.H
	}
	x, y = p.x(width), p.y(height)
	if p.shares[0] {
		x += left
	}
	if p.shares[1] {
		y += top
	}
	return x, y
}

func tap(rest string) (func(context.Context, *viewer) error, error) {
	parts := strings.Fields(rest)
	if len(parts) != 2 {
		return nil, fmt.Errorf("write where: tap 50%% 80%%")
	}
	p, err := parsePoint(parts[0], parts[1])
	return func(ctx context.Context, v *viewer) error {
		x, y := p.in(ctx, v)
		return v.press(ctx, x, y)
	}, err
}

func drag(rest string) (func(context.Context, *viewer) error, error) {
	parts := strings.Fields(strings.Replace(rest, " to ", " ", 1))
	if len(parts) != 4 {
		return nil, fmt.Errorf("write from where to where: drag 10%% 50%% to 90%% 50%%")
	}
	from, err := parsePoint(parts[0], parts[1])
	if err != nil {
		return nil, err
	}
	to, err := parsePoint(parts[2], parts[3])
	return func(ctx context.Context, v *viewer) error {
		x, y := from.in(ctx, v)
		x2, y2 := to.in(ctx, v)
		return v.stroke(ctx, x, y, x2, y2)
	}, err
}

// unmet says that what a step expects did not come.
type unmet struct{ words string }

func (e *unmet) Error() string { return e.words }

func expect(rest string) (func(context.Context, *viewer) error, error) {
	what, words, _ := strings.Cut(rest, " ")
	switch what {
	case "text":
		return expectText(words)
	case "value":
		return expectValue(words)
	case "picture":
		return expectPicture(words)
	}
	m := expectLine.FindStringSubmatch(rest)
	if m == nil {
		return nil, fmt.Errorf("write what: expect event level-begun within 5s, expect statistic NAME, expect call NAME, expect text WORDS, " +
			"expect value X is Y, or expect picture NAME")
	}
	within := 3 * time.Second
	if m[4] != "" {
		var err error
		if within, err = upToAMinute(m[4]); err != nil {
			return nil, err
		}
	}
	return func(ctx context.Context, v *viewer) error {
		return v.await(ctx, within, fmt.Sprintf("the %s %s", m[1], m[2]), func() (bool, error) { return v.heardOf(m[1], m[2]), nil })
	}, nil
}

func upToAMinute(text string) (time.Duration, error) {
	d, err := time.ParseDuration(text)
	if err != nil || d < 0 || d > time.Minute {
		return 0, fmt.Errorf("%q is no time of up to a minute", text)
	}
	return d, nil
}

// await waits until something is there; that it didn't come in time is an *unmet.
func (v *viewer) await(ctx context.Context, within time.Duration, what string, there func() (bool, error)) error {
	for until := time.Now().Add(within); ; v.pause(ctx, 50*time.Millisecond) {
		if ok, err := there(); ok || err != nil {
			return err
		}
		if ctx.Err() != nil {
			return ctx.Err()
		}
		if time.Now().After(until) {
			return &unmet{fmt.Sprintf("%s did not come within %s", what, within)}
		}
	}
}

// heardOf reports whether an event, a statistic or a call was heard.
func (v *viewer) heardOf(what, name string) bool {
	for _, e := range v.watch.events() {
		switch what {
		case "statistic":
			if s, ok := v.trial.statistic(e); ok && s.name == name {
				return true
			}
		default:
			if e.Kind == what && e.Name == name {
				return true
			}
		}
	}
	return false
}

func repeated(rest string) (func(context.Context, *viewer) error, error) {
	m := forLine.FindStringSubmatch(rest)
	if m == nil {
		return nil, fmt.Errorf("write how often, and what: for 3: press Enter; wait 200ms")
	}
	times, _ := strconv.Atoi(m[1]) // a few digits
	var inner []Step
	for part := range strings.SplitSeq(m[2], ";") {
		s, err := Parse(part)
		if err == nil && strings.HasPrefix(s.Line, "for ") {
			err = fmt.Errorf("there can't be a for within a for")
		}
		if err != nil {
			return nil, err
		}
		inner = append(inner, s)
	}
	return func(ctx context.Context, v *viewer) error {
		for range times {
			for _, s := range inner {
				if err := s.do(ctx, v); err != nil {
					return err
				}
			}
		}
		return nil
	}, nil
}

// longestSteps is the most time that all steps of a view may take.
const longestSteps = 3 * time.Minute

// steps does what the developer wrote. What is expected and does not come ends the steps, and not the trial.
func (r *viewer) steps(ctx context.Context) error {
	whole := ctx
	ctx, cancel := context.WithTimeout(ctx, longestSteps)
	defer cancel()
	for _, s := range r.trial.Steps {
		r.seen.Did = append(r.seen.Did, Did{MS: int(time.Since(r.seen.began).Milliseconds())})
		err := s.do(ctx, r)
		if ctx.Err() != nil && whole.Err() == nil {
			err = &unmet{fmt.Sprintf("all steps together took longer than %s", longestSteps)}
		}
		if lost, ok := err.(*unmet); ok {
			r.seen.Did[len(r.seen.Did)-1].Failed = lost.words
			r.problem(
				"trial-step",
				fmt.Sprintf("the step %q: %s", s.Line, lost.words),
				"look at the report's pictures: did the steps before do what they should?",
			)
			r.picture(ctx, "at the step that failed") // the picture is only for the report
			return nil
		}
		if err != nil {
			return err
		}
	}
	return nil
}
