package trial

import (
	"encoding/json"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"havvel/internal/finding"
	"havvel/internal/project"
	"havvel/internal/rulebook"
	"havvel/internal/serve"
	"havvel/internal/settings"
)

// sent is one value of a statistic.
type sent struct {
	name   string
	value  string // as a person writes it; what is no number as JSON
	number bool
}

// valueOf reads a value that was sent. NaN and infinite numbers arrive as null (ECMA-262, JSON.stringify).
func (s *sent) valueOf(v any) {
	if n, ok := v.(float64); ok {
		s.value, s.number = strconv.FormatFloat(n, 'f', -1, 64), true
		return
	}
	data, err := json.Marshal(v)
	s.value = string(data)
	if err != nil {
		s.value = "something that has no JSON form"
	}
}

// statistic reads the name and value of a statistic from what was heard: a call of the portal's, or where there is none a
// event that the game sent.
func (t *Trial) statistic(e serve.Event) (sent, bool) {
	if e.Kind == "event" && e.Name == "statistic" && !t.takesStatistics() {
		var d struct {
			Name  string
			Value any
		}
		if json.Unmarshal(e.Detail, &d) == nil && d.Name != "" {
			s := sent{name: d.Name}
			s.valueOf(d.Value)
			return s, true
		}
	}
	if e.Kind != "call" || t.Rules == nil {
		return sent{}, false
	}
	var arguments []any
	if json.Unmarshal(e.Arguments, &arguments) != nil {
		return sent{}, false
	}
	for _, h := range t.Rules.Hooks {
		for _, c := range h.At("statistic") {
			if c.Call == e.Name {
				s := sentBy(c, arguments)
				return s, s.name != ""
			}
		}
	}
	return sent{}, false
}

// sentBy is what a call was given.
func sentBy(c rulebook.Call, arguments []any) (s sent) {
	for i, a := range c.Arguments[:min(len(c.Arguments), len(arguments))] {
		switch a {
		case "{name}":
			s.name, _ = arguments[i].(string)
		case "{value}":
			s.valueOf(arguments[i])
		}
	}
	return s
}

// sent lists the statistics that were sent in a view, by name.
func (t *Trial) sent(v *View) []Statistic {
	list := []Statistic{}
	for _, e := range v.Heard {
		s, ok := t.statistic(e)
		if !ok {
			continue
		}
		i := slices.IndexFunc(list, func(o Statistic) bool { return o.Name == s.name })
		if i < 0 {
			i = len(list)
			list = append(list, Statistic{Name: s.name})
			for _, d := range t.Statistics {
				if d.Name == s.name {
					list[i].Keeps = d.Keeps
				}
			}
		}
		list[i].Values = append(list[i].Values, s.value)
	}
	for i := range list {
		list[i].Kept = kept(list[i].Keeps, list[i].Values)
	}
	return list
}

// kept is the value that a portal keeps of those that were sent; "" when that is not declared, or they are no numbers.
func kept(keeps string, values []string) string {
	var result float64
	for i, v := range values {
		n, err := strconv.ParseFloat(v, 64)
		if err != nil || keeps == "" {
			return ""
		}
		switch {
		case i == 0, keeps == "latest", keeps == "highest" && n > result, keeps == "lowest" && n < result:
			result = n
		case keeps == "total":
			result += n
		}
	}
	return strconv.FormatFloat(result, 'f', -1, 64)
}

func (t *Trial) takesStatistics() bool {
	return t.Rules != nil && slices.ContainsFunc(t.Rules.Hooks, func(h rulebook.Hook) bool { return len(h.At("statistic")) > 0 })
}

// ranged judges a value against the range that havvel.toml states.
func (t *Trial) ranged(s sent) []finding.Finding {
	i := slices.IndexFunc(t.Statistics, func(d project.Statistic) bool { return d.Name == s.name && len(d.Range) == 2 })
	n, err := strconv.ParseFloat(s.value, 64)
	if i < 0 || err != nil || n >= t.Statistics[i].Range[0] && n <= t.Statistics[i].Range[1] {
		return nil
	}
	number := func(f float64) string { return strconv.FormatFloat(f, 'f', -1, 64) }
	return []finding.Finding{{
		ID: "trial-value", Level: finding.Error,
		Message: fmt.Sprintf("the game sends %q as %s, which is not from %s to %s, as havvel.toml has it",
			s.name, s.value, number(t.Statistics[i].Range[0]), number(t.Statistics[i].Range[1])),
		Fix: "look where the value comes from, or change its range",
	}}
}

// nothing says what null stands for.
func nothing(value string) string {
	if value == "null" {
		return "; NaN and infinite numbers become that"
	}
	return ""
}

// statistics judges the values that were sent against those that are declared.
func (t *Trial) statistics(v *View) []finding.Finding {
	var declared, heard, odd []string
	for _, s := range t.Statistics {
		declared = append(declared, s.Name)
	}
	var list []finding.Finding
	for _, e := range v.Heard {
		s, ok := t.statistic(e)
		if !ok {
			continue
		}
		if s.number {
			list = append(list, t.ranged(s)...)
		} else if !slices.Contains(odd, s.name) {
			odd = append(odd, s.name)
			list = append(list, noNumber(s))
		}
		if slices.Contains(heard, s.name) {
			continue
		}
		heard = append(heard, s.name)
		if !slices.Contains(declared, s.name) {
			list = append(list, undeclared(s, declared))
		}
	}
	for _, name := range declared {
		if v.Started && len(t.Steps) > 0 && t.takesStatistics() && !slices.Contains(heard, name) {
			list = append(list, finding.Finding{
				ID:      "trial-silent",
				Message: fmt.Sprintf("%q is declared in havvel.toml, and was not sent", name),
				Fix:     "let the steps come to where it is sent, or fix the name",
			})
		}
	}
	return list
}

func noNumber(s sent) finding.Finding {
	level := finding.Error
	if strings.HasPrefix(s.value, `"`) {
		level = finding.Warning // some portals read a number in a text
	}
	return finding.Finding{
		ID: "trial-value", Level: level, Message: fmt.Sprintf("the game sends %q as %s, which is no number%s", s.name, s.value, nothing(s.value)),
		Fix: "look where the value comes from; a portal drops it, or shows it on its leaderboard",
	}
}

func undeclared(s sent, declared []string) finding.Finding {
	f := finding.Finding{
		ID:      "trial-statistic",
		Message: fmt.Sprintf("the game sends %q (%s), which havvel.toml does not declare", s.name, s.value),
		Fix:     fmt.Sprintf("declare it under [[statistic]], with name = %q", s.name),
	}
	if near := settings.Nearest(s.name, declared); near != "" {
		f.Fix = fmt.Sprintf("%q is declared: write the name the same way in both places", near)
	}
	return f
}
