package round

import (
	"fmt"
	"strings"
)

// Words says what can be said of levels beside each other.
func (r *Report) Words() string {
	h := r.Hardest
	switch {
	case h == nil:
		return ""
	case len(h.Levels) > 0:
		var list []string
		for _, l := range r.Levels {
			if len(l.Hard) > 0 {
				list = append(list, fmt.Sprintf("level %s (%s)", l.Name, strings.Join(ways(l.Hard), "; ")))
			}
		}
		return "Harder than the others, beyond chance: " + strings.Join(list, ", ") + "."
	case h.Maybe != "":
		return fmt.Sprintf("%s can't tell whether a level is harder than the others. Level %s may be: %s. About %d more would settle it.",
			testers(h.Testers), h.Maybe, ways([]string{h.What})[0], h.More)
	}
	return fmt.Sprintf("No level stands out among %s. Were one failed at first by 80 %% of them, and the others by 50 %%, %.0f of 100 such "+
		"rounds would show it.", testers(h.Testers), h.Finds)
}

func testers(n int) string {
	if n == 1 {
		return "1 tester"
	}
	return fmt.Sprintf("%d testers", n)
}

// ways are what a level is harder in, in words.
func ways(hard []string) (list []string) {
	for _, what := range hard {
		list = append(list, map[string]string{
			"tries": "the first try fails more often", "time": "it takes longer", "stopped": "more stop there than at the levels before it",
		}[what])
	}
	return list
}

// Words writes an interval behind its figure; nothing where there is none.
func (i Interval) Words(write func(float64) string) string {
	if !i.Known {
		return ""
	}
	return write(i.Low) + " to " + write(i.High)
}

// Bracketed is the interval behind a figure, in brackets.
func (i Interval) Bracketed(write func(float64) string) string {
	if !i.Known {
		return "(too few testers for a range)"
	}
	return "(" + i.Words(write) + ")"
}

// Percent writes a share.
func Percent(share float64) string { return fmt.Sprintf("%.0f\u00a0%%", 100*share) }
