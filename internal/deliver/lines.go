package deliver

import (
	"context"
	"sync"
	"time"

	"havvel/internal/deliver/protocol"
	"havvel/internal/deliver/site"
	"havvel/internal/project"
)

// A held store is open, and used by one step of a command after another.
type held struct {
	store   site.Store
	can     *site.Abilities
	end     context.CancelFunc // ends what waits on it
	release func()             // unties it from the step that uses it
}

func (h *held) close() {
	h.store.Close()
	h.end()
}

// lines are the open stores that nobody uses now, by the names of their destinations.
type lines struct {
	mu   sync.Mutex
	free map[string]*held
}

func (l *lines) take(name string) *held {
	if l == nil {
		return nil
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	h := l.free[name]
	delete(l.free, name)
	return h
}

func (l *lines) keep(name string, h *held) {
	if l == nil {
		h.close()
		return
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	if old := l.free[name]; old != nil {
		defer old.close()
	}
	l.free[name] = h
}

// Holding has a courier keep connections open from one step to the next, until it is closed.
func (c *Courier) Holding() { c.lines = &lines{free: map[string]*held{}} }

// Close ends the connections that are kept from one step to the next.
func (c *Courier) Close() {
	if c.lines == nil {
		return
	}
	c.lines.mu.Lock()
	defer c.lines.mu.Unlock()
	for name, h := range c.lines.free {
		h.close()
		delete(c.lines.free, name)
	}
}

// dial is a destination's store: one that is still open, or a new one. A stop of the context ends it a little later, so that the lock can
// be given back.
func (c *Courier) dial(ctx context.Context, d *project.Destination, secret string) (*held, error) {
	h := c.lines.take(d.Name)
	if h == nil {
		u := d.SiteAddress()
		by, _ := protocol.Find(u.Scheme) // a site has one
		outlives, end := context.WithCancel(context.WithoutCancel(ctx))
		stop := endsWith(ctx, end)
		can := c.abilities(u)
		store, err := by.Open(outlives, protocol.Place{
			Abilities: can,
			Name:      d.Name, Address: u, Secret: secret, Identity: d.Identity, HostKey: d.HostKey, Region: d.Region, BucketInHost: d.BucketInHost,
			Mode: d.FileMode(), Certificate: d.Certificate, DataHost: d.DataHost,
		})
		stop()
		if err != nil {
			end()
			return nil, err
		}
		h = &held{store: store, can: can, end: end}
	}
	h.release = endsWith(ctx, h.end)
	return h, nil
}

// endsWith has a context's stop end something after the grace, until it is undone.
func endsWith(ctx context.Context, end func()) (undo func()) {
	stop := context.AfterFunc(ctx, func() { time.AfterFunc(grace, end) })
	return func() { stop() }
}
