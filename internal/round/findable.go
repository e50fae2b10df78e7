package round

import "math"

// What is looked for: a level whose first try so many fail, among others that fewer fail.
const (
	hardFails = 0.8
	restFails = 0.5
)

// findable is in how many of a hundred rounds with so many testers and levels a hard level would be found by its tries.
func findable(testers, levels int) float64 {
	if testers < 2 || levels < 2 {
		return 0
	}
	rest := int(math.Round(restFails * float64(testers*(levels-1))))
	own := make([]float64, testers)
	for i := range own {
		own[i] = (hardFails + restFails*float64(levels-1)) / float64(levels)
	}
	lost, chance := 0.0, math.Pow(1-hardFails, float64(testers)) // of k fails, and of fewer
	for k := 0; k <= testers; k++ {
		p := max(above(k, testers, rest+k, testers*levels), atLeast(k, own))
		if p <= weight("tries")*allowed/float64(levels) {
			break
		}
		lost += chance
		chance *= hardFails / (1 - hardFails) * float64(testers-k) / float64(k+1)
	}
	return math.Round(100 * (1 - min(1, lost)))
}

// more is about how many testers more would settle a claim, if things went on as they did so far; 0 where nobody can say.
func more(c *claim, testers int) int {
	if c == nil || c.times < least || c.p >= 0.3 {
		return 0
	}
	has, wants := quantile(c.p), quantile(c.bar)
	return max(1, int(math.Ceil(float64(testers)*(wants*wants/(has*has)-1))))
}

// quantile is how far out on a normal distribution so much is left.
func quantile(p float64) float64 { return math.Sqrt2 * math.Erfcinv(2*p) }
