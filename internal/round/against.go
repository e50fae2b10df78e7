package round

import (
	"fmt"
	"math"
	"slices"
)

// A Change is one figure of two rounds, and what may be said of the difference.
type Change struct {
	Figure string  `json:"figure"`
	Level  string  `json:"level,omitempty"`
	Unit   string  `json:"unit"` // "%", "s", "tries", or "frames a second"
	Before float64 `json:"before"`
	After  float64 `json:"after"`
	N      [2]int  `json:"testers"` // that each figure is of
	Low    float64 `json:"low"`     // ends of the interval in which the difference (after less before) is, at 95 %
	High   float64 `json:"high"`
	Sure   bool    `json:"sure"`  // nothing is outside the interval, so it did change
	Known  bool    `json:"known"` // there is an interval at all; with very few testers there is none
}

// Compare puts a round beside an earlier one. Shares are compared by Newcombe's interval from Wilson scores (Statistics in Medicine 17,
// 1998, method 10), medians by the shift of Hodges and Lehmann with the exact interval of the rank sum. Both are honest for few testers.
// Of twenty figures that did not change, one may look as if it had.
func Compare(before, after *Report) []Change {
	list := []Change{
		share("began to play", "", before.Started, before.Testers, after.Started, after.Testers),
		share("won the last level", "", before.Finished, before.Started, after.Finished, after.Started),
		shift("length of a session", "", "s", before.samples.lengths, after.samples.lengths),
		shift("first picture", "", "s", before.samples.shown, after.samples.shown),
	}
	for _, class := range Classes {
		if a, b := before.samples.frames[class], after.samples.frames[class]; len(a) > 0 && len(b) > 0 {
			list = append(list, shift("frames on a "+class, "", "frames a second", a, b))
		}
	}
	for _, l := range after.Levels {
		a, b := before.samples.levels[l.Name], after.samples.levels[l.Name]
		if a == nil {
			continue
		}
		list = append(list,
			share("won it", l.Name, a.won, a.reached, b.won, b.reached),
			shift("tries", l.Name, "tries", a.tries, b.tries),
			shift("time", l.Name, "s", a.seconds, b.seconds))
	}
	return slices.DeleteFunc(list, func(c Change) bool { return c.N[0] == 0 && c.N[1] == 0 })
}

// normal95 is the quantile of the normal distribution outside of which is a twentieth, on both sides together.
const normal95 = 1.959964

// share compares how many of some.
func share(figure, level string, a, n, b, m int) Change {
	c := Change{Figure: figure, Level: level, Unit: "%", N: [2]int{n, m}}
	if n > 0 {
		c.Before = 100 * float64(a) / float64(n)
	}
	if m > 0 {
		c.After = 100 * float64(b) / float64(m)
	}
	if n == 0 || m == 0 {
		return c
	}
	lowA, highA := wilson(a, n)
	lowB, highB := wilson(b, m)
	pa, pb := float64(a)/float64(n), float64(b)/float64(m)
	d := pb - pa
	c.Low = 100 * (d - math.Hypot(pb-lowB, highA-pa))
	c.High = 100 * (d + math.Hypot(highB-pb, pa-lowA))
	c.Known, c.Sure = true, c.Low > 0 || c.High < 0
	return c
}

// wilson is the interval in which a share is at 95 %, of k in n.
func wilson(k, n int) (low, high float64) {
	p, m, z := float64(k)/float64(n), float64(n), normal95
	middle := p + z*z/(2*m)
	half := z * math.Sqrt(p*(1-p)/m+z*z/(4*m*m))
	return max(0, (middle-half)/(1+z*z/m)), min(1, (middle+half)/(1+z*z/m))
}

// mostPairs bounds the differences that are gone through; beyond it, every n-th value stands for its neighbours.
const mostPairs = 4_000_000

// shift compares two medians.
func shift(figure, level, unit string, a, b []float64) Change {
	c := Change{Figure: figure, Level: level, Unit: unit, Before: median(a), After: median(b), N: [2]int{len(a), len(b)}}
	for len(a)*len(b) > mostPairs {
		a, b = thin(a), thin(b)
	}
	k := rankQuantile(len(a), len(b))
	if k < 1 {
		return c
	}
	pairs := make([]float64, 0, len(a)*len(b))
	for _, x := range a {
		for _, y := range b {
			pairs = append(pairs, y-x)
		}
	}
	slices.Sort(pairs)
	c.Low, c.High, c.Known = pairs[k-1], pairs[len(pairs)-k], true
	c.Sure = c.Low > 0 || c.High < 0
	return c
}

func thin(list []float64) []float64 {
	list = slices.Sorted(slices.Values(list))
	var half []float64
	for i := 0; i < len(list); i += 2 {
		half = append(half, list[i])
	}
	return half
}

// exactRanks is how many values on each side the distribution of the rank sum is worked out for; beyond it the normal one is near enough.
const exactRanks = 30

// rankQuantile is the k for which the k-th smallest and the k-th largest of n*m differences hold the shift at 95 %; 0 when there are too
// few values for that.
func rankQuantile(n, m int) int {
	if n == 0 || m == 0 {
		return 0
	}
	if n > exactRanks || m > exactRanks {
		mean, sd := float64(n)*float64(m)/2, math.Sqrt(float64(n)*float64(m)*float64(n+m+1)/12)
		return max(0, int(math.Floor(mean-normal95*sd)))
	}
	// ways[u] counts the orders of the values with u pairs in which the second is smaller: the coefficients of a Gaussian binomial.
	ways := make([]float64, n*m+1)
	ways[0] = 1
	for i := 1; i <= n; i++ {
		for u := n * m; u >= m+i; u-- {
			ways[u] -= ways[u-m-i]
		}
		for u := i; u <= n*m; u++ {
			ways[u] += ways[u-i]
		}
	}
	all := 0.0
	for _, w := range ways {
		all += w
	}
	below := 0.0
	for u, w := range ways {
		if below += w; below/all > 0.025 {
			return u
		}
	}
	return 0
}

// Words says what may be said of a change.
func (c Change) Words() string {
	switch {
	case !c.Known:
		return "can't tell: too few testers"
	case c.Low > 0:
		return fmt.Sprintf("more, by %s to %s", c.amount(c.Low), c.amount(c.High))
	case c.High < 0:
		return fmt.Sprintf("less, by %s to %s", c.amount(-c.High), c.amount(-c.Low))
	}
	if c.Low == 0 && c.High == 0 {
		return "the same"
	}
	return fmt.Sprintf("can't tell: from %s to %s", c.signed(c.Low), c.signed(c.High))
}

// amount writes a difference; that of percentages is in points.
func (c Change) amount(v float64) string {
	unit := map[string]string{"%": " points", "s": "s", "tries": "", "frames a second": ""}[c.Unit]
	if math.Abs(v) >= 10 || c.Unit == "%" {
		return fmt.Sprintf("%.0f%s", v, unit)
	}
	return fmt.Sprintf("%.1f%s", v, unit)
}

func (c Change) signed(v float64) string {
	switch {
	case v < 0:
		return c.amount(-v) + " less"
	case v > 0:
		return c.amount(v) + " more"
	}
	return "no change"
}
