package trial

import (
	"fmt"

	"havvel/internal/finding"
)

// mostASecond is how often one call may be made in a second; portals drop or refuse what comes faster.
const mostASecond = 10

// bursts judges calls that come too often, and those that belong once and came again.
func (t *Trial) bursts(v *View) []finding.Finding {
	times, worst := map[string][]float64{}, map[string]int{}
	var order []string
	for _, e := range v.Heard {
		if e.Kind != "call" {
			continue
		}
		if times[e.Name] == nil {
			order = append(order, e.Name)
		}
		list := append(times[e.Name], e.At)
		times[e.Name] = list
		first := 0
		for list[first] < e.At-1000 {
			first++
		}
		worst[e.Name] = max(worst[e.Name], len(list)-first)
	}
	var list []finding.Finding
	for _, name := range order {
		switch {
		case worst[name] > mostASecond:
			list = append(list, finding.Finding{
				ID: "trial-burst", Message: fmt.Sprintf("%s was called %d times within a second", name, worst[name]),
				Fix: "call it when the value has changed, or once at the end of a level",
			})
		case len(times[name]) > 1 && t.once(name):
			list = append(list, finding.Finding{
				ID: "trial-burst", Level: finding.Note, Message: fmt.Sprintf("%s was called %d times; a game has loaded once", name, len(times[name])),
				Fix: "call it once; if the game also sends loading-done, leave its own call out",
			})
		}
	}
	return list
}

// once reports whether a call belongs only once.
func (t *Trial) once(name string) bool {
	if t.Rules == nil {
		return false
	}
	for _, h := range t.Rules.Hooks {
		for _, c := range h.Calls {
			if c.Call == name && (c.Event == "loading-done" || c.Event == "loading-begun") {
				return true
			}
		}
	}
	return false
}
