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
	mu     sync.Mutex
	free   map[string]*held
	coming map[string]*coming // those that are being opened
}

// A coming store is being opened, until it is done.
type coming struct {
	done chan struct{}
	err  error // why it could not be
}

// take is an open store that nobody else uses then; nil for none. One that is being opened is waited for, and its error is told once.
func (l *lines) take(ctx context.Context, name string) (*held, error) {
	if l == nil {
		return nil, nil
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	if c := l.coming[name]; c != nil {
		delete(l.coming, name)
		l.mu.Unlock()
		select {
		case <-c.done:
		case <-ctx.Done():
			l.mu.Lock()
			return nil, ctx.Err()
		}
		l.mu.Lock()
		if c.err != nil {
			return nil, c.err
		}
	}
	h := l.free[name]
	delete(l.free, name)
	return h, nil
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
func (c *Courier) Holding() { c.lines = &lines{free: map[string]*held{}, coming: map[string]*coming{}} }

// Ready opens the connection to a site beside other work, so that it is there when something is sent. What fails is told by who uses it.
func (c *Courier) Ready(ctx context.Context, d *project.Destination) {
	if c.lines == nil || d.SiteAddress() == nil || d.SiteAddress().Host == "" { // a folder is there at once
		return
	}
	secret, err := d.Secret()
	if err != nil {
		return
	}
	c.lines.mu.Lock()
	defer c.lines.mu.Unlock()
	if c.lines.free[d.Name] != nil || c.lines.coming[d.Name] != nil {
		return
	}
	next := &coming{done: make(chan struct{})}
	c.lines.coming[d.Name] = next
	go func() {
		defer close(next.done)
		var h *held
		if h, next.err = c.open(ctx, d, secret); next.err != nil {
			return
		}
		if by, ok := h.store.(site.Warmer); ok {
			by.Warm(ctx)
		}
		c.lines.keep(d.Name, h)
	}()
}

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
	h, err := c.lines.take(ctx, d.Name)
	if h == nil && err == nil {
		h, err = c.open(ctx, d, secret)
	}
	if err != nil {
		return nil, err
	}
	h.release = endsWith(ctx, h.end)
	return h, nil
}

// open opens a destination's store, which outlives the context.
func (c *Courier) open(ctx context.Context, d *project.Destination, secret string) (*held, error) {
	u := d.SiteAddress()
	by, _ := protocol.Find(u.Scheme) // a site has one
	outlives, end := context.WithCancel(context.WithoutCancel(ctx))
	stop := endsWith(ctx, end)
	defer stop()
	can := c.abilities(u)
	store, err := by.Open(outlives, protocol.Place{
		Abilities: can,
		Name:      d.Name, Address: u, Secret: secret, Identity: d.Identity, HostKey: d.HostKey, Region: d.Region, BucketInHost: d.BucketInHost,
		Mode: d.FileMode(), Certificate: d.Certificate, DataHost: d.DataHost,
	})
	if err != nil {
		end()
		return nil, err
	}
	return &held{store: store, can: can, end: end}, nil
}

// endsWith has a context's stop end something after the grace, until it is undone.
func endsWith(ctx context.Context, end func()) (undo func()) {
	stop := context.AfterFunc(ctx, func() { time.AfterFunc(grace, end) })
	return func() { stop() }
}
