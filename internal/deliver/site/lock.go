package site

import (
	"context"
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"time"

	"golang.org/x/sync/errgroup"

	"havvel/internal/fault"
)

// beatName is the file that who holds the lock writes anew all the time.
const beatName = "havvel.beat"

// A pulse is a sign of life.
type pulse struct {
	Who   string    `json:"who"`
	Since time.Time `json:"since"`
	Mark  string    `json:"mark"` // another one each time
}

// Busy says that somebody else sends to the same site now.
type Busy struct {
	Who   string
	Since time.Time
}

func (e *Busy) Error() string {
	who := e.Who
	if who == "" {
		who = "somebody else"
	}
	return fmt.Sprintf("%s is sending to it now (since %s)", who, e.Since.Local().Format("15:04"))
}

// Fault tells it.
func (e *Busy) Fault() *fault.Error {
	return fault.Tell(e, fault.No, "wait until that is done, and run the same command again")
}

// alone runs work while nobody else changes the site. A lock whose holder gives no sign of life any more is taken over:
// clocks of two machines need not agree, since only changes are looked at.
func (s *Site) alone(ctx context.Context, work func(context.Context) error) error {
	if err := s.claim(ctx); err != nil {
		return err
	}
	inside, stop := context.WithCancelCause(ctx)
	alive := make(chan struct{})
	go func() {
		defer close(alive)
		s.live(inside, stop)
	}()
	err := work(inside)
	if err != nil && errors.Is(err, context.Canceled) && ctx.Err() == nil {
		err = context.Cause(inside)
	}
	stop(nil)
	<-alive
	free, cancel := context.WithTimeout(context.WithoutCancel(ctx), 10*time.Second)
	defer cancel()
	return errors.Join(err, s.free(free, err != nil))
}

// free gives the lock back. After a failure it is no matter when that fails, too: the lock is taken over in time.
func (s *Site) free(ctx context.Context, failed bool) error {
	var both errgroup.Group // another one's sign of life, if it is quicker, comes again
	for _, name := range []string{beatName, lockName} {
		both.Go(func() error { return s.Store.Remove(ctx, name) })
	}
	if err := both.Wait(); !failed {
		return err
	}
	return nil
}

func (s *Site) claim(ctx context.Context) error {
	err := s.Store.Claim(ctx, lockName)
	if !errors.Is(err, fs.ErrExist) {
		return err
	}
	first, err := s.pulse(ctx)
	if err != nil {
		return err
	}
	s.Report.Begin("looking whether somebody else sends", 0)
	defer s.Report.End()
	for until := time.Now().Add(3 * s.Patience); time.Now().Before(until); {
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(s.Patience / 4):
		}
		now, err := s.pulse(ctx)
		if err != nil {
			return err
		}
		if now.Mark != first.Mark {
			if err := s.Store.Claim(ctx, lockName); !errors.Is(err, fs.ErrExist) {
				return err // it was given back meanwhile
			}
			return &Busy{now.Who, now.Since}
		}
	}
	if err := s.Store.Remove(ctx, lockName); err != nil {
		return err
	}
	err = s.Store.Claim(ctx, lockName)
	if errors.Is(err, fs.ErrExist) {
		return &Busy{Since: s.Now()} // another one was quicker
	}
	return err
}

func (s *Site) pulse(ctx context.Context) (p pulse, err error) {
	data, err := Read(ctx, s.Store, beatName)
	if errors.Is(err, fs.ErrNotExist) {
		return p, nil
	}
	if err == nil && json.Unmarshal(data, &p) != nil {
		p = pulse{}
	}
	return p, err
}

// live gives signs of life until the context ends. When another one took the lock, it stops the work.
func (s *Site) live(ctx context.Context, stop context.CancelCauseFunc) {
	p := pulse{Who: s.Who, Since: s.Now().UTC()}
	known := map[string]bool{
		"": true,
	} // what was there when the lock was ours, and what we wrote: a write that failed may have arrived, or not
	for first := true; ; first = false {
		if now, err := s.pulse(ctx); err == nil && first {
			known[now.Mark] = true
		} else if err == nil && !known[now.Mark] {
			stop(&Busy{now.Who, now.Since})
			return
		}
		p.Mark = rand.Text()
		known[p.Mark] = true
		if data, err := json.Marshal(p); err == nil {
			s.Store.Swap(ctx, small(beatName, data, "application/json", "no-store")) // one that is lost is followed by the next
		}
		select {
		case <-ctx.Done():
			return
		case <-time.After(s.Patience):
		}
	}
}
