package trial

import (
	"context"
	_ "embed"
	"encoding/json"
	"fmt"
	"math"
	"os"
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
	said, at, since := 0, 0.0, 0.0 // at is when the last input ended, since when it began
	add := func(format string, args ...any) { rec.Steps = append(rec.Steps, fmt.Sprintf(format, args...)) }
	until := func(next float64) (waits bool) {
		within := min(60, max(5, math.Ceil(2*(next-at)/1000)+2))
		known := map[string]bool{}
		for ; said < len(heard) && heard[said].At < next; said++ {
			e := heard[said]
			if line := fmt.Sprintf("expect %s %s within %.0fs", e.Kind, e.Name, within); !known[line] && e.At >= since {
				known[line] = true
				rec.Steps = append(rec.Steps, line)
				waits = true
			}
		}
		return waits
	}
	for n := 0; n < len(inputs); n++ {
		i := inputs[n]
		gap := i.At - at
		waits := until(i.At)
		switch {
		case waits || gap < 50 || n == 0 && i.screen == nil:
		case gap >= breath && i.screen != nil:
			name := fmt.Sprintf("step %d", len(rec.Steps)+1)
			rec.screens[name] = *i.screen
			add("expect picture %s up to 30%% within %.0fs", name, min(60, max(5, math.Ceil(2*gap/1000)+2)))
		default:
			add("wait %.0fms", math.Round(gap/10)*10)
		}
		at, since = i.To, i.At
		switch {
		case i.What == "key" && i.To-i.At < shortPress:
			add("press %s", i.Key)
		case i.What == "key":
			add("hold %s for %.0fms", i.Key, i.To-i.At)
		case i.What == "pad" && i.To-i.At < shortPress:
			add("pad %s", i.Key)
		case i.What == "pad":
			add("pad %s for %.0fms", i.Key, i.To-i.At)
		case i.What == "wheel":
			for n+1 < len(inputs) && inputs[n+1].What == "wheel" && inputs[n+1].At-at < breath {
				n++
				i.Pixels, at = i.Pixels+inputs[n].Pixels, inputs[n].To
			}
			add("wheel %.0f", i.Pixels)
		case i.Moved > fewPixels:
			add("drag %s to %s", place(i.X, i.Y), place(i.X2, i.Y2))
		case i.Right:
			add("right-press %s", place(i.X, i.Y))
		default:
			add("tap %s", place(i.X, i.Y))
		}
	}
	until(math.Inf(1))
	add("picture end")
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
