package site

import (
	"maps"
	"sync"
)

// Abilities are what was found out about a host, by the names below: so it isn't tried again with each version. They are safe for
// concurrent use; nil knows nothing.
type Abilities struct {
	mu      sync.Mutex
	known   map[string]int
	changed bool
}

// Names of abilities; 1 is yes, 0 is no.
const (
	Copies      = "copy"        // of a file
	Grafts      = "copy-folder" // of a folder with all that is in it
	Splices     = "copy-parts"  // of a file
	Connections = "connections" // how many it lets in
)

// NewAbilities are some that were found out before.
func NewAbilities(known map[string]int) *Abilities { return &Abilities{known: maps.Clone(known)} }

// Known is what is known of an ability.
func (a *Abilities) Known(name string) (n int, ok bool) {
	if a == nil {
		return 0, false
	}
	a.mu.Lock()
	defer a.mu.Unlock()
	n, ok = a.known[name]
	return n, ok
}

// Can reports whether a host may have an ability: it isn't known that it hasn't.
func (a *Abilities) Can(name string) bool {
	n, known := a.Known(name)
	return !known || n > 0
}

// Note remembers what was found out. A yes stays: what a host could do once and fails to do now is another failure.
func (a *Abilities) Note(name string, n int) {
	if a == nil {
		return
	}
	a.mu.Lock()
	defer a.mu.Unlock()
	if was, known := a.known[name]; known && (was == n || was == 1 && n == 0) {
		return
	}
	if a.known == nil {
		a.known = map[string]int{}
	}
	a.known[name], a.changed = n, true
}

// Changed returns all that is known, where something was noted since it was asked last.
func (a *Abilities) Changed() (map[string]int, bool) {
	if a == nil {
		return nil, false
	}
	a.mu.Lock()
	defer a.mu.Unlock()
	changed := a.changed
	a.changed = false
	return maps.Clone(a.known), changed
}
