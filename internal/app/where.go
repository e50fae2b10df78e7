package app

import (
	"context"
	"errors"
	"time"

	"havvel/internal/deliver"
	"havvel/internal/fault"
	"havvel/internal/logbook"
	"havvel/internal/project"
	"havvel/internal/rulebook"
)

// An Asking is how destinations are asked.
type Asking struct {
	Limit time.Duration // how long their decisions are waited for; 0 for not at all
	Live  bool          // look at what players get, too
}

// Where asks each destination for the state of what was sent there. One that can't be asked is told as the logbook knows it.
func (k *Desk) Where(ctx context.Context, how Asking) (*Deliveries, error) {
	var failed error
	for _, d := range k.Destinations {
		if err := k.adopt(ctx, d); err != nil && !k.knows(d) { // otherwise who asks about what is known says it
			failed = errors.Join(failed, err)
		}
	}
	latest, err := k.Courier.Latest(k.Destinations)
	if err != nil {
		return nil, err
	}
	lacks, err := k.lacks(ctx)
	if err != nil {
		return nil, err
	}
	out := newDeliveries()
	until := k.Courier.Now().Add(how.Limit)
	for _, l := range latest {
		status, err := k.ask(ctx, l, how.Limit, until)
		failed = errors.Join(failed, err)
		if ctx.Err() != nil {
			return out, failed
		}
		out.add(status)
		last := &out.List[len(out.List)-1]
		last.Lacks, last.News = lacks[l.Destination], status.State != l.State
	}
	k.Tell(Standing{k.Destinations, out.statuses(), lacks})
	if how.Live {
		failed = errors.Join(failed, k.lookAtAll(ctx, out))
	}
	out.then(Next(k.Project, out.statuses()))
	return out, failed
}

// knows reports whether the logbook has deliveries to a destination.
func (k *Desk) knows(d *project.Destination) bool {
	_, err := Last(k.Courier, d)
	return err == nil
}

// lacks says what the page of each destination still lacks.
func (k *Desk) lacks(ctx context.Context) (map[string][]string, error) {
	all := map[string][]string{}
	if !pageBegun(k.Project) {
		return all, nil
	}
	pages, orders, err := Pages(ctx, k.Project, k.Destinations, k.Project.Game.Version, k.Report)
	if err != nil {
		return nil, err
	}
	for i, d := range k.Destinations {
		if list := Lacks(pages[d.Name], orders[i]); len(list) > 0 {
			all[d.Name] = list
		}
	}
	return all, nil
}

// ask asks about one delivery; one that can't be asked about is as the logbook knows it.
func (k *Desk) ask(ctx context.Context, l *logbook.Delivery, limit time.Duration, until time.Time) (*deliver.Status, error) {
	known, d := &deliver.Status{Delivery: l}, k.Project.To[l.Destination]
	if k.DryRun {
		return known, nil
	}
	if limit > 0 && awaited(d, l.State) {
		k.Tell(Waits{d, limit})
	}
	status, err := k.Courier.Ask(ctx, d, l, max(until.Sub(k.Courier.Now()), 0))
	if err != nil {
		return known, err
	}
	if limit == 0 {
		return status, nil
	}
	return status, decided(d, status, limit)
}

// lookAtAll fetches what players get of each public delivery.
func (k *Desk) lookAtAll(ctx context.Context, out *Deliveries) (failed error) {
	for i, l := range out.List {
		if l.State != rulebook.Public {
			continue
		}
		d := k.Project.To[l.Destination]
		seen, err := k.Courier.Look(ctx, d, l.Status.Delivery)
		if err != nil {
			failed = errors.Join(failed, err)
			continue
		}
		out.List[i].Live = seen
		k.Tell(Looked{d, seen, nil})
		if len(seen.Differences) > 0 {
			failed = errors.Join(failed, fault.Said)
		}
	}
	return failed
}

// Versions are what destinations have.
type Versions struct {
	Destinations []VersionsAt `json:"destinations"`
}

// VersionsAt are the versions at one destination.
type VersionsAt struct {
	Destination string          `json:"destination"`
	Versions    []deliver.Known `json:"versions"`
}

// All lists all versions that the destinations have. One that can't say is passed over, and named in the error.
func (k *Desk) All(ctx context.Context) (*Versions, error) {
	out := &Versions{[]VersionsAt{}}
	var failed error
	for _, d := range k.Destinations {
		list, err := k.Courier.Versions(ctx, d)
		if err != nil {
			failed = errors.Join(failed, err)
			continue
		}
		out.Destinations = append(out.Destinations, VersionsAt{d.Name, append([]deliver.Known{}, list...)})
	}
	return out, failed
}

// NoLink says why there is no link to a destination's version.
func NoLink(d *project.Destination) string {
	if !deliver.Can(d, deliver.Headers) && d.Public == "" {
		return "not known (public under [to." + d.Name + "])"
	}
	return "none yet"
}
