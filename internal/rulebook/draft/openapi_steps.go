package draft

import (
	"fmt"
	"path"
	"slices"
	"strings"

	"havvel/internal/rulebook"
)

// begin is a step of a request that the description has.
func (d *description) begin(recipe, about string, o operation) (step, node) {
	d.found = append(d.found, Found{recipe, o.method, o.path})
	name := strings.ToLower(snake(o.id()))
	if name == "" {
		name = strings.ToLower(o.method) + " " + strings.Trim(path.Base(o.path), "{}")
	}
	s := step{recipe, about, []pair{
		{"step", quoted(strings.ReplaceAll(name, "_", " "))},
		{"method", quoted(o.method)},
		{"address", quoted(d.at(o, recipe))},
	}, nil}
	d.body(o, &s)
	expect, answer := d.answers(o)
	s.Pairs = append(s.Pairs, pair{"expect", numbers(expect)})
	return s, answer
}

// add adds a step that takes what it can.
func (d *description) add(recipe, about string, o operation) {
	s, answer := d.begin(recipe, about, o)
	into := map[string]string{}
	d.taken(answer, "", 0, into)
	wanted := []string{"state", "link"}
	if recipe == "send" {
		wanted = []string{"id", "state"}
		if into["id"] != "" && slices.Contains(d.rules.Keep, "id") || !d.needsID() {
			delete(into, "id") // the first tells it
		}
		if into["id"] != "" {
			d.rules.Keep = append(d.rules.Keep, "id")
		}
	}
	var pairs []pair
	for _, name := range wanted {
		if into[name] != "" {
			pairs = append(pairs, pair{name, quoted(into[name])})
		}
	}
	if len(pairs) > 0 {
		s.Pairs = append(s.Pairs, pair{"take", table(pairs)})
	}
	d.rules.Steps = append(d.rules.Steps, s)
}

// needsID reports whether the path of a version has a name that the portal gives.
func (d *description) needsID() bool { return !versionWords.MatchString(d.idName) }

// addFollow adds the question for a version's state, where the answer tells one.
func (d *description) addFollow(o operation) {
	about := "What state is a version in?"
	s, answer := d.begin("follow", about, o)
	into := map[string]string{}
	d.taken(answer, "", 0, into)
	if into["state"] == "" {
		d.found = d.found[:len(d.found)-1]
		return
	}
	pairs := []pair{{"state", quoted(into["state"])}}
	if into["link"] != "" {
		pairs = append(pairs, pair{"link", quoted(into["link"])})
	}
	s.Pairs = append(s.Pairs, pair{"take", table(pairs)})
	var ends []string
	for _, word := range d.states {
		if stateFor(word) != rulebook.Verifying {
			ends = append(ends, fmt.Sprintf("%q", word))
		}
	}
	if len(ends) > 0 {
		until := fmt.Sprintf(`{ until = 'state in [%s]', every = "2s", limit = "5m" }`, strings.Join(ends, ", "))
		s.Pairs = append(s.Pairs, pair{"repeat", until})
	}
	d.rules.Steps = append(d.rules.Steps, s)
}

// addFind adds the question whether a version is there, where the answer is a list of versions with names.
func (d *description) addFind(o operation) {
	s, answer := d.begin("find", "Is {version} there? It is asked when the answer to an upload was lost.", o)
	at, of := listIn(answer)
	version, id := "", ""
	for _, f := range fields(of) {
		switch {
		case versionWords.MatchString(f.name) && version == "":
			version = f.name
		case f.name == "id" || f.name == d.idName || id == "" && idWords.MatchString(snake(f.name)):
			id = f.name
		}
	}
	if version == "" || id == "" || !d.needsID() {
		d.found = d.found[:len(d.found)-1]
		return
	}
	s.Pairs = append(s.Pairs,
		pair{"take", table([]pair{{"list", quoted(at)}})},
		pair{"set", table([]pair{{"id", quoted(fmt.Sprintf("find(list, .%s == version)?.%s", version, id))}})})
	isLink := func(name string) bool { return strings.EqualFold(name, "Link") }
	if slices.ContainsFunc(o.at("responses", "200", "headers").keys(), isLink) {
		s.Pairs = append(s.Pairs, pair{"next", `"link next"`})
	}
	d.rules.Steps = append(d.rules.Steps, s)
}

// listIn finds a list in an answer, and what it holds.
func listIn(s node) (at string, of node) {
	if s.is("array") {
		return "$[*]", s.at("items")
	}
	for _, f := range fields(s) {
		if f.schema.is("array") {
			return "$." + f.name + "[*]", f.schema.at("items")
		}
	}
	return "", node{}
}
