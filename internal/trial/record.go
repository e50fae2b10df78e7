package trial

import (
	"cmp"
	"context"
	_ "embed"
	"encoding/json"
	"fmt"
	"math"
	"os"
	"slices"
	"sync"
	"time"

	"havvel/internal/browser"
	"havvel/internal/rulebook"
	"havvel/internal/serve"
)

//go:embed record.js
var recorder string

// An input is something that the player did.
type input struct {
	What   string  // key, point, wheel or pad
	Key    string  // or button
	At, To float64 // milliseconds since the page was asked for
	X, Y   float64 // shares of the game's picture
	X2, Y2 float64
	Moved  float64 // pixels
	Right  bool
	Pixels float64 // of a wheel

	screen *First // what was to be seen before it
}

// mostRecorded is how long somebody may play for a recording.
const mostRecorded = 15 * time.Minute

// A Recording is what somebody played.
type Recording struct {
	Steps   []string
	screens map[string]First
	view    string
}

// Record opens the game in a window, and makes steps of what is played there, until the window is closed, ctx ends, or a quarter of an
// hour has passed. opened is told of the window; it may be nil.
func (t *Trial) Record(ctx context.Context, v rulebook.View, opened func(browser.Tab)) (*Recording, error) {
	b, err := browser.StartShown(ctx, t.Browsers[0])
	if err != nil {
		return nil, err
	}
	defer b.Close()
	var mu sync.Mutex
	var inputs []input
	var last []byte
	r, done, err := t.beginWith(ctx, b, v, 0, recorder, func(r *viewer) {
		r.watch.input = func(text string) {
			var i input
			if json.Unmarshal([]byte(text), &i) != nil {
				return
			}
			i.At, i.To = r.watch.sinceBegun(i.At), r.watch.sinceBegun(i.To)
			mu.Lock()
			defer mu.Unlock()
			if f, ok := screenOf(last, &r.sight); ok {
				i.screen = &f
			}
			inputs = append(inputs, i)
		}
	})
	if err != nil {
		return nil, err
	}
	defer done()
	stop, err := r.tab.Watch(ctx, sightWidth, func(p []byte, at time.Time) {
		mu.Lock()
		last = p
		mu.Unlock()
		r.sight.look(p, at)
	})
	if err != nil {
		return nil, browser.Failed(ctx, err)
	}
	defer stop()
	if opened != nil {
		opened(r.tab)
	}
	for end := time.Now().Add(mostRecorded); ctx.Err() == nil && time.Now().Before(end) && !r.tab.Gone(); {
		pause(ctx, often)
	}
	mu.Lock()
	defer mu.Unlock()
	rec := &Recording{screens: map[string]First{}, view: v.Name}
	rec.make(inputs, r.watch.events())
	return rec, nil
}

// Bounds of what is recorded.
const (
	shortPress = 300.0 // milliseconds, up to which a key is pressed and not held
	fewPixels  = 12.0  // that a finger may move in a tap
	breath     = 400.0 // milliseconds, from which on a pause waits for something
)

// make turns what was done and heard into steps. Where the player waited, the steps wait for what came meanwhile: an event, a call, or
// else the picture.
func (rec *Recording) make(inputs []input, heard []serve.Event) {
	m := maker{Recording: rec, heard: heard}
	inputs = parted(inputs)
	for n := 0; n < len(inputs); {
		n = m.step(inputs, n)
	}
	m.until(math.Inf(1))
	m.add("picture end")
}

// parted are inputs in the order in which they began. A key that was held while something else was pressed or let go becomes two: one
// that puts it down, and one that lets it go.
func parted(inputs []input) []input {
	var begins, ends []float64
	for _, i := range inputs {
		begins, ends = append(begins, i.At), append(ends, i.To)
	}
	slices.Sort(begins)
	slices.Sort(ends)
	inside := func(times []float64, i input) bool {
		at, _ := slices.BinarySearchFunc(times, i.At, func(t, begin float64) int { // the first after it began
			if t <= begin {
				return -1
			}
			return 1
		})
		return at < len(times) && times[at] < i.To
	}
	var list []input
	for _, i := range inputs {
		if i.What != "key" || !inside(begins, i) && !inside(ends, i) {
			list = append(list, i)
			continue
		}
		down, up := i, i
		down.What, down.To = "down", i.At
		up.What, up.At, up.screen = "up", i.To, nil
		list = append(list, down, up)
	}
	slices.SortStableFunc(list, func(a, b input) int { return cmp.Compare(a.At, b.At) })
	return list
}

// A maker makes steps.
type maker struct {
	*Recording
	heard []serve.Event
	said  int     // how many of them the steps wait for, or passed
	at    float64 // when the last input ended, in milliseconds
	since float64 // when it began
	down  int     // keys that are held
}

func (m *maker) add(format string, args ...any) {
	m.Steps = append(m.Steps, fmt.Sprintf(format, args...))
}

// until has the steps wait for what was heard before a time.
func (m *maker) until(next float64) (waits bool) {
	within := min(60, max(5, math.Ceil(2*(next-m.at)/1000)+2))
	known := map[string]bool{}
	for ; m.said < len(m.heard) && m.heard[m.said].At < next; m.said++ {
		e := m.heard[m.said]
		if line := fmt.Sprintf("expect %s %s within %.0fs", e.Kind, e.Name, within); !known[line] && e.At >= m.since {
			known[line] = true
			m.Steps = append(m.Steps, line)
			waits = true
		}
	}
	return waits
}

// step makes the steps for an input, and returns which one is next.
func (m *maker) step(inputs []input, n int) (next int) {
	i := inputs[n]
	gap := i.At - m.at
	waits := m.until(i.At)
	switch {
	case waits || gap < 50 || n == 0 && i.screen == nil:
	case gap >= breath && i.screen != nil && m.down == 0:
		name := fmt.Sprintf("step %d", len(m.Steps)+1)
		m.screens[name] = *i.screen
		m.add("expect picture %s up to 30%% within %.0fs", name, min(60, max(5, math.Ceil(2*gap/1000)+2)))
	default:
		m.add("wait %.0fms", math.Round(gap/10)*10)
	}
	m.at, m.since = i.To, i.At
	switch i.What {
	case "key":
		m.held(i, "press", "hold")
	case "pad":
		m.held(i, "pad", "pad")
	case "down", "up":
		m.down += map[string]int{"down": 1, "up": -1}[i.What]
		m.add("%s %s", i.What, i.Key)
	case "wheel":
		for n+1 < len(inputs) && inputs[n+1].What == "wheel" && inputs[n+1].At-m.at < breath {
			n++
			i.Pixels, m.at = i.Pixels+inputs[n].Pixels, inputs[n].To
		}
		m.add("wheel %.0f", i.Pixels)
	default:
		m.pointed(i)
	}
	return n + 1
}

// held is a step of something that was pressed, for a moment or longer.
func (m *maker) held(i input, press, hold string) {
	if i.To-i.At < shortPress {
		m.add("%s %s", press, i.Key)
		return
	}
	m.add("%s %s for %.0fms", hold, i.Key, i.To-i.At)
}

func (m *maker) pointed(i input) {
	switch {
	case i.Moved > fewPixels:
		m.add("drag %s to %s", place(i.X, i.Y), place(i.X2, i.Y2))
	case i.Right:
		m.add("right-press %s", place(i.X, i.Y))
	default:
		m.add("tap %s", place(i.X, i.Y))
	}
}

func place(x, y float64) string { return fmt.Sprintf("%.1f%% %.1f%%", 100*x, 100*y) }

// Keep keeps the steps in a file, and the pictures that they wait for among those that are accepted.
func (rec *Recording) Keep(folder, destination, file string) error {
	accepted := firstsFile(folder, destination, true)
	list, err := readFirsts(accepted)
	if err != nil {
		return err
	}
	if len(list) == 0 {
		list = []*Firsts{{Views: map[string]First{}}}
	}
	list[0].At = time.Now().UTC().Truncate(time.Second)
	for name, s := range rec.screens {
		list[0].Views[rec.view+"/"+name] = s
	}
	text := "# What havvel trial --record saw. One step a line: docs/trial.md.\n"
	for _, s := range rec.Steps {
		text += s + "\n"
	}
	if err := os.WriteFile(file, []byte(text), 0o644); err != nil {
		return fmt.Errorf("keeping the steps: %w", err)
	}
	return writeFirsts(accepted, list)
}
