package round

import (
	"fmt"
	"math"
	"math/rand/v2"
	"slices"
	"testing"
)

// imaginedRound is a round of levels each of whose tries fail with a chance of its own. Testers differ in skill and patience by spread; where
// stops, a failed try ends a session.
func imaginedRound(random *rand.Rand, testers int, fails []float64, spread float64, stops, once bool) *Report {
	m := NewMaker(false)
	for i := range testers {
		s := &Session{ID: fmt.Sprint(i), Device: Device{Width: 1280, Height: 720}}
		at := int64(0)
		note := func(data Data, kind string) {
			s.Events = append(s.Events, Event{N: len(s.Events) + 1, At: at, Kind: kind, Data: data})
		}
		skill, patience := spread*random.NormFloat64(), 1+random.IntN(12)
		for level, p := range fails {
			name := loose(fmt.Sprint(level + 1))
			p = 1 / (1 + math.Exp(math.Log(1/p-1)+skill))
			won := false
			for try := 0; !won && (try == 0 || !once && try < patience); try++ {
				note(Data{Event: "level-begun", Level: name}, "event")
				at += int64(20_000 * math.Exp(0.5*random.NormFloat64()))
				won = random.Float64() >= p
				note(Data{Event: "level-ended", Level: name, Won: loose(fmt.Sprint(won))}, "event")
			}
			if !won && (stops || !once) {
				break
			}
		}
		m.Add(s)
	}
	return m.Report()
}

func alike(n int, p float64) []float64 { return slices.Repeat([]float64{p}, n) }

// TestFalseAlarms: where all levels are alike, a report says of at most one round in twenty that one of them stands out, however few or many
// testers there are, whether they differ, and whatever a failed try means.
func TestFalseAlarms(t *testing.T) {
	for _, testers := range []int{3, 5, 10, 30, 200} {
		rounds := 300
		if testers > 100 {
			rounds = 100
		}
		for name, c := range map[string]struct {
			spread      float64
			stops, once bool
		}{
			"tried until won": {0, false, false}, "testers differ": {0.8, false, false}, "a fail ends it": {0, true, true},
			"testers differ, a fail ends it": {0.6, true, true}, "one try each": {0, false, true},
		} {
			random := rand.New(rand.NewPCG(uint64(testers), 11))
			alarms := 0
			for range rounds {
				if r := imaginedRound(random, testers, alike(10, 0.5), c.spread, c.stops, c.once); r.Hardest != nil && len(r.Hardest.Levels) > 0 {
					alarms++
				}
			}
			// Of so many rounds, chance alone takes a rate of 5 % no further than this in 99 of 100 tests.
			most := float64(rounds)*0.05 + 2.33*math.Sqrt(float64(rounds)*0.05*0.95)
			t.Logf("%d testers, %s: %.1f %%", testers, name, 100*float64(alarms)/float64(rounds))
			if float64(alarms) > most {
				t.Errorf("%d testers, %s: %d of %d rounds of equal levels raise an alarm", testers, name, alarms, rounds)
			}
		}
	}
}

// TestFindsHard: a level that 80 of 100 tries fail, among nine that 50 fail, is found in four of five rounds with forty testers; with fewer
// the report says how often it would be found, and that is so.
func TestFindsHard(t *testing.T) {
	for _, testers := range []int{5, 12, 20, 40} {
		random := rand.New(rand.NewPCG(uint64(testers), 5))
		const rounds = 200
		found, said := 0, 0.0
		for range rounds {
			fails := alike(10, 0.5)
			hard := random.IntN(10)
			fails[hard] = 0.8
			r := imaginedRound(random, testers, fails, 0, false, true)
			said = r.Hardest.Finds
			if slices.Contains(r.Hardest.Levels, fmt.Sprint(hard+1)) {
				found++
			}
		}
		rate := 100 * float64(found) / rounds
		t.Logf("%d testers: found in %.0f %%, and %.0f %% were said", testers, rate, said)
		if testers == 40 && rate < 80 {
			t.Errorf("with %d testers it is found in %.0f %%", testers, rate)
		}
		if math.Abs(rate-said) > 15 {
			t.Errorf("with %d testers it is found in %.0f %%, and the report says %.0f", testers, rate, said)
		}
	}
}

// TestIntervals: figures that others worked out.
func TestIntervals(t *testing.T) {
	near := func(a, b float64) bool { return math.Abs(a-b) < 0.0005 }
	if i := shareWithin(10, 20); !near(i.Low, 0.2993) || !near(i.High, 0.7007) { // Wilson 1927
		t.Errorf("%+v", i)
	}
	var ten []float64
	for i := range 10 {
		ten = append(ten, float64(10-i))
	}
	if i := medianWithin(ten); i != (Interval{2, 9, true}) { // tables of the sign test: 97.9 %
		t.Errorf("%+v", i)
	}
	if i := medianWithin(ten[:5]); i.Known {
		t.Errorf("of five: %+v", i)
	}
	if p := above(3, 4, 4, 8); !near(p, 0.2429) { // the lady who tasted tea, 3 or more of 4
		t.Errorf("Fisher: %v", p)
	}
	if p := atLeast(2, []float64{0.5, 0.5, 0.5}); !near(p, 0.5) {
		t.Errorf("%v", p)
	}
}
