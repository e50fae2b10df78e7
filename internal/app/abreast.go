package app

import (
	"sync"

	"havvel/internal/progress"
	"havvel/internal/project"
)

// abreast is work at several destinations at the same time. What is told and reported comes one after the other, and those of one host
// take turns, since hosts count connections.
type abreast struct {
	k     *Desk
	lanes *progress.Lanes
	work  sync.WaitGroup

	mu    sync.Mutex
	hosts map[string]*sync.Mutex
}

func (k *Desk) abreast() *abreast {
	return &abreast{k: k, lanes: progress.Beside(k.Report), hosts: map[string]*sync.Mutex{}}
}

// desk is one for the work at one destination.
func (a *abreast) desk() *Desk {
	one, courier := *a.k, *a.k.Courier
	one.Report, one.Courier = a.lanes.Lane(), &courier
	courier.Report = a.lanes.Lane()
	one.Tell = func(e Event) { a.lanes.Between(func() { a.k.Tell(e) }) }
	if ask := courier.Prompt; ask != nil {
		courier.Prompt = func(address, code string) { a.lanes.Between(func() { ask(address, code) }) }
	}
	return &one
}

// at does something at a destination beside everything else, once its host is free.
func (a *abreast) at(d *project.Destination, do func()) {
	a.mu.Lock()
	turn := a.hosts[d.Host()]
	if turn == nil {
		turn = &sync.Mutex{}
		a.hosts[d.Host()] = turn
	}
	a.mu.Unlock()
	a.work.Go(func() {
		turn.Lock()
		defer turn.Unlock()
		do()
	})
}
