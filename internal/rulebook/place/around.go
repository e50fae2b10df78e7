package place

import (
	"encoding/json"
	"fmt"
	"net/url"
	"slices"
	"strings"

	"havvel/internal/rulebook/expression"
)

// links are the addresses that the header links to with a relation (RFC 8288), absolute.
func links(a *Answer, rel string) (list []string) {
	base, _ := url.Parse(a.Address)
	for _, field := range a.Header.Values("Link") {
		for field != "" {
			begin, end := strings.IndexByte(field, '<'), strings.IndexByte(field, '>')
			if begin < 0 || end < begin {
				break
			}
			target := field[begin+1 : end]
			var is bool
			is, field = parameters(field[end+1:], rel)
			if !is {
				continue
			}
			if to, err := url.Parse(target); err == nil && base != nil {
				target = base.ResolveReference(to).String()
			}
			list = append(list, target)
		}
	}
	return list
}

// parameters reads those of one link, and returns whether its relation is among them, and what comes after the link.
func parameters(text, rel string) (is bool, rest string) {
	for {
		text = strings.TrimLeft(text, " \t;")
		if text == "" || text[0] == ',' {
			return is, strings.TrimPrefix(text, ",")
		}
		end := strings.IndexAny(text, "=;,")
		if end < 0 {
			return is, ""
		}
		name := strings.ToLower(strings.TrimSpace(text[:end]))
		if text[end] != '=' {
			text = text[end:]
			continue
		}
		text = strings.TrimLeft(text[end+1:], " \t")
		value := ""
		if strings.HasPrefix(text, `"`) {
			i := 1
			for ; i < len(text) && text[i] != '"'; i++ {
				if text[i] == '\\' {
					i++
				}
			}
			value, text = strings.ReplaceAll(text[1:min(i, len(text))], `\`, ""), text[min(i+1, len(text)):]
		} else {
			i := strings.IndexAny(text, ";,")
			if i < 0 {
				i = len(text)
			}
			value, text = strings.TrimSpace(text[:i]), text[i:]
		}
		if name == "rel" && slices.ContainsFunc(strings.Fields(value), func(r string) bool { return strings.EqualFold(r, rel) }) {
			is = true
		}
	}
}

// An event is one of a stream of server-sent events (HTML, section 9.2).
type event struct {
	Name string // "message" where the stream names none
	Data string
}

// eventsOf reads a stream of server-sent events; one that isn't ended by an empty line is none.
func eventsOf(body []byte) (list []event) {
	text := strings.NewReplacer("\r\n", "\n", "\r", "\n").Replace(strings.TrimPrefix(string(body), "\ufeff"))
	e, data := event{Name: "message"}, []string{}
	for line := range strings.SplitSeq(text, "\n") {
		if line == "" {
			if len(data) > 0 {
				e.Data = strings.Join(data, "\n")
				list = append(list, e)
			}
			e, data = event{Name: "message"}, []string{}
			continue
		}
		field, value, _ := strings.Cut(line, ":")
		value = strings.TrimPrefix(value, " ")
		switch field {
		case "event":
			e.Name = value
		case "data":
			data = append(data, value)
		}
	}
	return list
}

func (p *Place) event(text string) error {
	name, pointer, _ := strings.Cut(text, " ")
	parts, err := tokens(strings.TrimSpace(pointer))
	if name == "" || err != nil {
		return fmt.Errorf("write it as \"event NAME /id\"; the name can be * for any")
	}
	p.find = func(a *Answer) ([]any, error) {
		var list []any
		for _, e := range eventsOf(a.Body) {
			if name != "*" && e.Name != name {
				continue
			}
			if len(parts) == 0 {
				list = append(list, e.Data)
				continue
			}
			var v any
			d := json.NewDecoder(strings.NewReader(e.Data))
			d.UseNumber()
			if d.Decode(&v) == nil {
				list = append(list, spread(follow(expression.Exact(v), parts), false)...)
			}
		}
		if !p.many && len(list) > 1 {
			list = list[len(list)-1:]
		}
		return list, nil
	}
	return nil
}

// Beside returns the texts at two places side by side: reasons, and what each is about. Those that stand in the same element of a list
// belong together, also where one of them is missing. about may be nil.
func Beside(words Place, about *Place, a *Answer) [][2]string {
	list := located(words, a)
	var others []node
	if about != nil {
		others = located(*about, a)
	}
	var pairs [][2]string
	for i, w := range list {
		pair := [2]string{written(w.value)}
		best := 0
		for j, o := range others {
			shared := 0
			for shared < min(len(o.path), len(w.path))-1 && o.path[shared] == w.path[shared] {
				shared++
			}
			if w.path == nil && i == j || shared > best || len(w.path) == 1 && len(o.path) == 1 {
				best, pair[1] = max(shared, best), written(o.value)
			}
		}
		if len(w.path) > 2 && best < len(w.path)-1 {
			pair[1] = "" // its own element says nothing
		}
		if strings.TrimSpace(pair[0]) != "" {
			pairs = append(pairs, pair)
		}
	}
	return pairs
}

func located(p Place, a *Answer) []node {
	if p.nodes != nil {
		list, _ := p.nodes(a)
		return list
	}
	values, _ := p.find(a)
	var list []node
	for _, v := range values {
		list = append(list, node{nil, v})
	}
	return list
}

// written is a value as a person would write it: true and false say nothing by themselves.
func written(v any) string {
	switch v := v.(type) {
	case bool, nil:
		return ""
	case string:
		return v
	case map[string]any, []any:
		data, _ := json.Marshal(v)
		if s := string(data); s != "{}" && s != "[]" {
			return s
		}
		return ""
	}
	return fmt.Sprint(v)
}
