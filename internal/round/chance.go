package round

import (
	"cmp"
	"math"
	"slices"
)

// An Interval holds a figure at 95 %. Known is false where so few testers allow none.
type Interval struct {
	Low   float64 `json:"low"`
	High  float64 `json:"high"`
	Known bool    `json:"known"`
}

// shareWithin is the interval of a share of k in n, by Wilson's score.
func shareWithin(k, n int) Interval {
	if n == 0 {
		return Interval{}
	}
	low, high := wilson(k, n)
	return Interval{low, high, true}
}

// medianWithin is the interval of a median, between two of the values: those between which so many of a hundred medians lie, whatever the
// values' distribution. It takes six values at least.
func medianWithin(list []float64) Interval {
	n := len(list)
	sorted := slices.Sorted(slices.Values(list))
	below, term := 0.0, math.Exp2(-float64(n))
	k := 0
	if n > 900 { // where the term is none any more
		k = int(float64(n)/2 - normal95*math.Sqrt(float64(n))/2)
	} else {
		for ; below+term <= 0.025 && k < n/2; k++ {
			below += term
			term *= float64(n-k) / float64(k+1)
		}
	}
	if k == 0 {
		return Interval{}
	}
	return Interval{sorted[k-1], sorted[n-k], true}
}

// A trial is how one tester did at one level.
type trial struct {
	tester, level int
	failed        bool    // the first try was not won
	seconds       float64 // all tries together
	stopped       bool    // the session ended there, not won
}

// mostTried is of how many testers' trials hardness is worked out. More don't change it.
const mostTried = 20_000

// A claim is that one level stands out in one way.
type claim struct {
	level int
	what  string  // "tries", "time" or "stopped"
	p     float64 // the chance of seeing as much or more where all levels are alike
	times float64 // how much more often than at the other levels
	bar   float64 // what p must not be above, as one of so many claims
}

// least is how much more often something must happen at a level to be worth saying.
const least = 1.2

// weight is how much of the false alarms that are allowed a kind of claim may raise, were its chances exact. They are too large instead,
// so that all kinds together stay below what is allowed.
func weight(what string) float64 {
	if what == "tries" {
		return 1
	}
	return 0.15
}

// claims are all that might be said of levels, which are numbered in the order in which they are played. What is compared is yes or no for
// each tester and level.
func claims(trials []trial, levels int) []claim {
	middle, own := medianOf(trials), medians(trials)
	list := byLevels("tries", trials, levels, func(t trial, _ bool) bool { return t.failed })
	list = append(list, byLevels("time", trials, levels, func(t trial, within bool) bool {
		if within {
			return t.seconds > own[t.tester]
		}
		return t.seconds > middle
	})...)
	return append(list, byStops(trials, levels)...)
}

// byLevels compares each level with the others. Two chances are worked out, and the larger one counts. By the one, a tester's yes and no
// are shuffled among that tester's own levels, which is right however much testers differ; by the other, all are shuffled among all, which
// is right where a no ends the session. Neither is right for both.
func byLevels(what string, trials []trial, levels int, yes func(t trial, within bool) bool) (list []claim) {
	c := tally(trials, levels, yes)
	for level := range levels {
		list = append(list, claim{
			level: level, what: what, p: max(c.pooled(level), c.within(level)), times: c.times(level),
			bar: weight(what) * allowed / float64(levels),
		})
	}
	return list
}

// byStops compares how many stop at a level with how many stopped at those before it: the impatient stop early, so that those who are left
// stop less of themselves. The first level has none before it, and behind the last there is nothing to go on to.
func byStops(trials []trial, levels int) (list []claim) {
	n, stopped := make([]int, levels), make([]int, levels)
	for _, t := range trials {
		n[t.level]++
		if t.stopped {
			stopped[t.level]++
		}
	}
	before, gone := 0, 0
	for level := range levels {
		if level > 0 && level < levels-1 {
			p := above(stopped[level], n[level], gone+stopped[level], before+n[level])
			here, there := float64(stopped[level])/float64(max(1, n[level])), float64(gone)/float64(max(1, before))
			list = append(list, claim{
				level: level, what: "stopped", p: p, times: here / max(there, 1/float64(max(1, before))),
				bar: weight("stopped") * allowed / float64(max(1, levels-2)),
			})
		}
		before, gone = before+n[level], gone+stopped[level]
	}
	return list
}

// tallied counts yes and no.
type tallied struct {
	n, yes   []int // by level, as all are compared with all
	all, sum int
	ownYes   []int          // by level, as testers are compared with themselves
	testers  map[int][2]int // their levels, and at how many it was yes
	at       []map[int]bool // by level: testers who reached it
}

func tally(trials []trial, levels int, yes func(t trial, within bool) bool) *tallied {
	c := &tallied{
		n: make([]int, levels), yes: make([]int, levels), ownYes: make([]int, levels), testers: map[int][2]int{},
		at: make([]map[int]bool, levels),
	}
	for i := range c.at {
		c.at[i] = map[int]bool{}
	}
	for _, t := range trials {
		c.n[t.level]++
		c.all++
		c.at[t.level][t.tester] = true
		who := c.testers[t.tester]
		who[0]++
		if yes(t, false) {
			c.yes[t.level]++
			c.sum++
		}
		if yes(t, true) {
			c.ownYes[t.level]++
			who[1]++
		}
		c.testers[t.tester] = who
	}
	return c
}

// times is how much more often it is yes at a level than at the others.
func (c *tallied) times(level int) float64 {
	n, others := c.n[level], c.all-c.n[level]
	if n == 0 || others == 0 {
		return 1
	}
	here, there := float64(c.yes[level])/float64(n), float64(c.sum-c.yes[level])/float64(others)
	if there == 0 {
		there = 1 / float64(others)
	}
	return here / there
}

// pooled is the chance that so many of all that are yes, or more, are at a level, if they were dealt out at random (Fisher's exact test).
func (c *tallied) pooled(level int) float64 {
	return above(c.yes[level], c.n[level], c.sum, c.all)
}

// within is the chance that so many testers, or more, have a yes at a level, if each one's yes were dealt out among that one's own levels.
func (c *tallied) within(level int) float64 {
	var chances []float64
	for tester := range c.at[level] {
		who := c.testers[tester]
		chances = append(chances, float64(who[1])/float64(who[0]))
	}
	return atLeast(c.ownYes[level], chances)
}

// above is the chance of k or more when n are drawn from all, of which some are yes.
func above(k, n, some, all int) float64 {
	if n == 0 || all == n {
		return 1
	}
	log := func(n int) float64 { v, _ := math.Lgamma(float64(n) + 1); return v }
	choose := func(n, k int) float64 { return log(n) - log(k) - log(n-k) }
	p := 0.0
	for x := max(k, n-(all-some)); x <= min(n, some); x++ {
		p += math.Exp(choose(some, x) + choose(all-some, n-x) - choose(all, n))
	}
	return min(1, p)
}

// exactSum is up to how many chances their sum is worked out exactly.
const exactSum = 400

// atLeast is the chance that k or more come true of things with chances of their own.
func atLeast(k int, chances []float64) float64 {
	if len(chances) > exactSum {
		mean, variance := 0.0, 0.0
		for _, p := range chances {
			mean, variance = mean+p, variance+p*(1-p)
		}
		if variance == 0 {
			return 1
		}
		return math.Erfc((float64(k)-0.5-mean)/math.Sqrt(2*variance)) / 2
	}
	ways := make([]float64, len(chances)+1)
	ways[0] = 1
	for i, p := range chances {
		for x := i + 1; x > 0; x-- {
			ways[x] = ways[x]*(1-p) + ways[x-1]*p
		}
		ways[0] *= 1 - p
	}
	sum := 0.0
	for x := k; x < len(ways); x++ {
		sum += ways[x]
	}
	return min(1, sum)
}

// medians are those of each tester's times.
func medians(trials []trial) map[int]float64 {
	times := map[int][]float64{}
	for _, t := range trials {
		times[t.tester] = append(times[t.tester], t.seconds)
	}
	list := map[int]float64{}
	for tester, of := range times {
		list[tester] = median(of)
	}
	return list
}

func medianOf(trials []trial) float64 {
	var list []float64
	for _, t := range trials {
		list = append(list, t.seconds)
	}
	return median(list)
}

// allowed is how often something may be said of levels that are all alike.
const allowed = 0.05

// said are those claims that hold, though so many were looked at, the surest first; and the one that comes nearest where none does.
func said(list []claim) (hold []claim, next *claim) {
	list = slices.SortedStableFunc(slices.Values(list), func(a, b claim) int { return cmp.Compare(a.p/a.bar, b.p/b.bar) })
	for i, c := range list {
		switch {
		case c.p <= c.bar && c.times >= least:
			hold = append(hold, c)
		case next == nil:
			next = &list[i]
		}
	}
	return hold, next
}
