package web

import (
	"encoding/json"
	"strings"
)

// An ImportMap says what addresses the names of modules stand for (HTML standard, section 8.1.6.2).
type ImportMap struct {
	Imports map[string]string
	Scopes  map[string]map[string]string
}

// add joins another map of the same page: what is there already stays.
func (m *ImportMap) add(raw []byte) {
	var read struct {
		Imports map[string]any            `json:"imports"`
		Scopes  map[string]map[string]any `json:"scopes"`
	}
	if json.Unmarshal(raw, &read) != nil {
		return
	}
	merge := func(into *map[string]string, from map[string]any) {
		if *into == nil {
			*into = map[string]string{}
		}
		for name, address := range from {
			text, _ := address.(string) // null forbids the name
			if _, ok := (*into)[name]; !ok {
				(*into)[name] = text
			}
		}
	}
	merge(&m.Imports, read.Imports)
	for scope, names := range read.Scopes {
		if m.Scopes == nil {
			m.Scopes = map[string]map[string]string{}
		}
		into := m.Scopes[scope]
		merge(&into, names)
		m.Scopes[scope] = into
	}
}

// Resolve is the address that a name stands for in a script; ok is false when the map doesn't know it. within reports whether the script
// is in a scope, which is an address of a script or folder.
func (m *ImportMap) Resolve(name string, within func(scope string) bool) (address string, ok bool) {
	best := ""
	for scope, names := range m.Scopes {
		if a, found := lookUp(names, name); found && len(scope) >= len(best) && within(scope) {
			best, address, ok = scope, a, true
		}
	}
	if ok {
		return address, address != ""
	}
	address, ok = lookUp(m.Imports, name)
	return address, ok && address != ""
}

// lookUp finds a name, or the longest beginning of it that ends with a slash.
func lookUp(names map[string]string, name string) (address string, ok bool) {
	if a, ok := names[name]; ok {
		return a, true
	}
	longest := -1
	for begin, a := range names {
		if strings.HasSuffix(begin, "/") && strings.HasPrefix(name, begin) && len(begin) > longest && (a == "" || strings.HasSuffix(a, "/")) {
			longest, ok = len(begin), true
			if address = ""; a != "" {
				address = a + name[len(begin):]
			}
		}
	}
	return address, ok
}
