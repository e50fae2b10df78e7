// Package testers simulates people who play a round of the demo game: by the interface through which events come, with skill, patience and
// devices from a seed, and in a real browser. Every session is marked as simulated. It is for the example and for tests of load.
package testers

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"math"
	"math/rand/v2"
	"net/http"
	"strings"
	"time"

	"havvel/internal/round"
)

// A Tester is one who plays.
type Tester struct {
	skill    float64 // 0 for the average, most within 2
	patience float64 // seconds without a win after which one gives up
	most     int     // levels after which one has enough
	device   round.Device
	speed    float64 // frames a second that the device reaches
	random   *rand.Rand
}

// devices are those that testers have, with what they reach.
var devices = []struct {
	device round.Device
	speed  float64
}{
	{round.Device{Width: 1280, Height: 720, Ratio: 1, Memory: 8}, 60},
	{round.Device{Width: 1920, Height: 969, Ratio: 1, Memory: 16}, 60},
	{round.Device{Width: 390, Height: 844, Ratio: 3, Touch: true, Memory: 4}, 41},
	{round.Device{Width: 1512, Height: 860, Ratio: 2, Memory: 8}, 58},
	{round.Device{Width: 820, Height: 1180, Ratio: 2, Touch: true, Memory: 4}, 52},
	{round.Device{Width: 360, Height: 740, Ratio: 2, Touch: true, Memory: 2}, 27},
}

// Of returns testers; the same seed gives the same.
func Of(seed uint64, n int) []*Tester {
	list := make([]*Tester, n)
	for i := range list {
		random := rand.New(rand.NewPCG(seed, uint64(i)+1))
		d := devices[random.IntN(len(devices))]
		list[i] = &Tester{
			skill: random.NormFloat64(), patience: 60 * math.Exp(0.5*random.NormFloat64()+0.3), most: 6 + random.IntN(8),
			device: d.device, speed: d.speed + 2*random.NormFloat64(), random: random,
		}
	}
	return list
}

// hardness is how hard the first nights of the lane are; the fifth is harder than it should be.
var hardness = []float64{-2.6, -2.1, -1.7, -1.2, 1.1, -0.7, -0.4, -0.1, 0.2, 0.5, 0.8, 1.0}

// An Event is one as a round's page sends it.
type Event struct {
	N    int    `json:"n"`
	At   int64  `json:"at"`
	Kind string `json:"kind"`
	Data any    `json:"data,omitempty"`
}

// game plays, and notes what happens.
type game struct {
	*Tester
	at     float64 // seconds
	framed float64
	events []Event
}

func (g *game) note(kind string, data any) {
	g.events = append(g.events, Event{len(g.events) + 1, int64(g.at * 1000), kind, data})
}

type words map[string]any

// pass lets time go by, in which the page counts frames.
func (g *game) pass(seconds float64) {
	for end := g.at + seconds; ; {
		if g.framed+5 > end {
			g.at = end
			return
		}
		g.framed += 5
		g.at = max(g.at, g.framed)
		tired := 1.0
		if g.device.Touch { // it grows warm
			tired = 1 - 0.12*min(1, g.at/180)
		}
		g.note("frames", words{"fps": math.Round(10*max(5, min(60, g.speed*tired+g.random.NormFloat64()))) / 10})
	}
}

// Play is what comes back of one who plays.
func (t *Tester) Play() []Event {
	g := &game{Tester: t}
	g.pass(0.4 + 0.5*t.random.Float64() + 20/t.speed)
	g.note("shown", nil)
	g.note("event", words{"event": "loading-done"})
	g.pass(1.5 + 4*t.random.Float64())
	stopped := ""
	if t.random.Float64() < 0.93 { // some only look
		g.note("event", words{"event": "play-begun"})
		stopped = g.nights()
	}
	if t.random.Float64() < 0.8 {
		g.answers(stopped)
	}
	g.pass(1)
	g.note("left", nil)
	return g.events
}

// nights plays until it is done or given up, and says at which night that was.
func (g *game) nights() string {
	for i, hard := range hardness {
		if i >= g.most {
			return ""
		}
		level, spent := i+1, 0.0
		g.note("event", words{"event": "level-begun", "level": level})
		for {
			length := (9 + 5*float64(i)) * math.Exp(0.35*(hard-g.skill)+0.25*g.random.NormFloat64())
			g.pass(length)
			spent += length
			if g.random.Float64() < 1/(1+math.Exp(hard-g.skill)) {
				break
			}
			if spent > g.patience {
				return fmt.Sprint(level)
			}
			g.fault()
			g.note("event", words{"event": "level-begun", "level": level}) // begun anew
		}
		g.note("event", words{"event": "level-ended", "level": level, "won": true})
		g.note("event", words{"event": "statistic", "name": "nights", "value": level})
		g.pass(1 + 2*g.random.Float64())
		if g.random.Float64() < 0.08 {
			g.note("paused", nil)
			g.at += 5 + 40*g.random.Float64()
			g.framed = g.at
			g.note("resumed", nil)
		}
	}
	return ""
}

// fault is what goes wrong on weak devices.
func (g *game) fault() {
	if g.device.Memory <= 2 && g.random.Float64() < 0.4 {
		g.note("error", words{"message": "the drawing context was lost", "file": "gl.js", "line": 31})
	}
}

var remarks = []string{
	"the turning is lovely, and the light",
	"I would like an undo that I can see",
	"sound was too quiet",
	"nice, more of it please",
}

func (g *game) answers(stopped string) {
	fun := 4 + g.random.IntN(2)
	if stopped != "" {
		fun = 2 + g.random.IntN(2)
	}
	g.note("answer", words{"question": 0, "answer": fmt.Sprint(fun)})
	switch {
	case stopped != "":
		g.note("answer", words{"question": 1, "answer": "too hard"})
		g.note("answer", words{"question": 2, "answer": "I did not see what to do in night " + stopped})
	default:
		g.note("answer", words{"question": 1, "answer": "just right"})
		g.note("answer", words{"question": 2, "answer": remarks[g.random.IntN(len(remarks))]})
	}
}

// Questions are those that the testers answer.
var Questions = []round.Question{
	{Ask: "Was it fun?", Kind: "scale"},
	{Ask: "How hard was it?", Kind: "choice", Choices: []string{"too easy", "just right", "too hard"}},
	{Ask: "What was odd, or missing?", Kind: "text"},
}

// Link is a round's link for simulated testers.
func Link(o *round.Opened) string { return o.Link + "#" + o.ID }

// Send plays, and sends what comes of it to a round under its link for simulated testers.
func (t *Tester) Send(ctx context.Context, link string) error {
	link, id, _ := strings.Cut(link, "#")
	var begun struct{ Session string }
	if err := post(ctx, link+"/sessions", words{"device": t.device, "simulated": id}, &begun); err != nil {
		return err
	}
	for list := t.Play(); len(list) > 0; {
		n := min(100, len(list))
		if err := post(ctx, link+"/sessions/"+begun.Session+"/events", words{"events": list[:n]}, nil); err != nil {
			return err
		}
		list = list[n:]
	}
	return nil
}

// post sends JSON, and tries again for a while when the host is busy.
func post(ctx context.Context, address string, in, out any) error {
	body, err := json.Marshal(in)
	if err != nil {
		return err
	}
	for try := 1; ; try++ {
		status, err := once(ctx, address, body, out)
		if err == nil || try == 10 || status != 0 && status != http.StatusTooManyRequests && status < 500 {
			return err
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(time.Duration(try) * 200 * time.Millisecond):
		}
	}
}

// once returns the status of the answer; 0 when there was none.
func once(ctx context.Context, address string, body []byte, out any) (int, error) {
	r, err := http.NewRequestWithContext(ctx, http.MethodPost, address, bytes.NewReader(body))
	if err != nil {
		return 0, err
	}
	answer, err := http.DefaultClient.Do(r)
	if err != nil {
		return 0, err
	}
	defer answer.Body.Close()
	data, err := io.ReadAll(io.LimitReader(answer.Body, 1<<20))
	if err == nil && answer.StatusCode >= 300 {
		err = fmt.Errorf("the round says no (status %d): %s", answer.StatusCode, strings.TrimSpace(string(data)))
	}
	if err == nil && out != nil {
		err = json.Unmarshal(data, out)
	}
	return answer.StatusCode, err
}
