package app

import (
	"sync"

	"havvel/internal/progress"
	"havvel/internal/project"
)

// abreast is work at several destinations at the same time. What was done is told in the order in which it was begun, whatever ends
// first, and reported as one piece; a warning is told at once. Those of one host take turns, since hosts count connections.
type abreast struct {
	k     *Desk
	lanes *progress.Lanes
	work  sync.WaitGroup
	told  []*errand // those that have still to tell something; changed between what is shown

	mu    sync.Mutex
	hosts map[string]*sync.Mutex
}

func (k *Desk) abreast() *abreast {
	return &abreast{k: k, lanes: progress.Beside(k.Report), hosts: map[string]*sync.Mutex{}}
}

// An errand is the work at one destination.
type errand struct {
	*Desk
	of     *abreast
	untold []Event
	over   bool
}

// A warning is an event that must be heard before what it warns of is done.
type warning interface {
	of(destination string) Event
}

func (e Loses) of(destination string) Event     { return Loses{destination + ": " + e.Says} }
func (e Permanent) of(destination string) Event { return Permanent{Says: destination + ": " + e.Says} }

// errand begins the work at one more destination. It is to be ended.
func (a *abreast) errand(d *project.Destination) *errand {
	one, courier := *a.k, *a.k.Courier
	one.Report, one.Courier = a.lanes.Lane(), &courier
	courier.Report = a.lanes.Lane()
	e := &errand{Desk: &one, of: a}
	one.Tell = func(event Event) {
		a.lanes.Between(func() {
			if w, ok := event.(warning); ok && a.told[0] != e {
				a.k.Tell(w.of(d.Name))
				return
			}
			e.untold = append(e.untold, event)
			a.tell()
		})
	}
	if ask := courier.Prompt; ask != nil {
		courier.Prompt = func(address, code string) { a.lanes.Between(func() { ask(address, code) }) }
	}
	a.lanes.Between(func() { a.told = append(a.told, e) })
	return e
}

// end says that nothing more will be told.
func (e *errand) end() {
	e.of.lanes.Between(func() {
		e.over = true
		e.of.tell()
	})
}

// tell tells what those have to tell before whom all others are over.
func (a *abreast) tell() {
	for len(a.told) > 0 {
		first := a.told[0]
		for _, event := range first.untold {
			a.k.Tell(event)
		}
		first.untold = nil
		if !first.over {
			return
		}
		a.told = a.told[1:]
	}
}

// at does something at a destination beside everything else, once its host is free, and ends the errand.
func (a *abreast) at(d *project.Destination, e *errand, do func()) {
	a.mu.Lock()
	turn := a.hosts[d.Host()]
	if turn == nil {
		turn = &sync.Mutex{}
		a.hosts[d.Host()] = turn
	}
	a.mu.Unlock()
	a.work.Go(func() {
		defer e.end()
		turn.Lock()
		defer turn.Unlock()
		do()
	})
}
