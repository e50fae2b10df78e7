package portal

import (
	"sync"

	"havvel/internal/rulebook/expression"
)

// A Ledger knows which requests were made, so that another process need not make them again. It is safe for several goroutines.
type Ledger struct {
	Rereads bool // what only reads is asked anew each time
	// writes an entry down; it is called for each change, one at a time, with a zero Entry for one that is taken back. May be nil
	Write func(key string, e Entry)

	mu      sync.Mutex
	entries map[string]Entry
	skipped int // requests that were not made
	fresh   int // that were
}

// An Entry is one request, as it was made.
type Entry struct {
	Hash     string            `json:"hash,omitempty"` // of what it said
	Values   expression.Values `json:"values,omitempty"`
	State    string            `json:"state,omitempty"` // that its answer told, in our words
	Reasons  []string          `json:"reasons,omitempty"`
	Location string            `json:"location,omitempty"` // of a resumable upload
	Open     bool              `json:"open,omitempty"`     // that upload has not ended
	Lost     bool              `json:"lost,omitempty"`     // it was made, and no answer came
	Seen     string            `json:"seen,omitempty"`     // what the portal showed of the version before that; "" where nobody looked
	UUID     string            `json:"uuid,omitempty"`
	Private  bool              `json:"-"` // its values may hold a secret
}

// NewLedger returns one that knows entries.
func NewLedger(entries map[string]Entry) *Ledger {
	if entries == nil {
		entries = map[string]Entry{}
	}
	return &Ledger{entries: entries}
}

// Look returns what is known of a request.
func (l *Ledger) Look(key string) (Entry, bool) {
	l.mu.Lock()
	defer l.mu.Unlock()
	e, ok := l.entries[key]
	return e, ok
}

// Entries are all that may be written down.
func (l *Ledger) Entries() map[string]Entry {
	l.mu.Lock()
	defer l.mu.Unlock()
	all := map[string]Entry{}
	for key, e := range l.entries {
		if !e.Private {
			all[key] = e
		}
	}
	return all
}

// skip counts a request that need not be made.
func (l *Ledger) skip() {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.skipped++
}

// stale reports whether requests of an earlier try were left out, and none was made since.
func (l *Ledger) stale() bool {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.skipped > 0 && l.fresh == 0
}

// Made is how many requests were made since the ledger was opened.
func (l *Ledger) Made() int {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.fresh
}

func (l *Ledger) keep(key string, e Entry) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if e.UUID == "" {
		e.UUID = l.entries[key].UUID
	}
	if e.Hash != "" && !e.Lost && !e.Open {
		l.fresh++
	}
	l.entries[key] = e
	if l.Write == nil {
		return
	}
	if e.Private {
		e = Entry{UUID: e.UUID} // it is made again, and known by that
	}
	l.Write(key, e)
}

func (l *Ledger) forget(key string) {
	l.mu.Lock()
	defer l.mu.Unlock()
	delete(l.entries, key)
	if l.Write != nil {
		l.Write(key, Entry{})
	}
}

// clear forgets all: the portal knows nothing of it any more.
func (l *Ledger) clear() {
	for key := range l.Entries() {
		l.forget(key)
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	l.entries, l.skipped = map[string]Entry{}, 0
}
