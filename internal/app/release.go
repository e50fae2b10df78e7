package app

import (
	"context"
	"errors"
	"fmt"

	"havvel/internal/deliver"
	"havvel/internal/fault"
	"havvel/internal/keys"
	"havvel/internal/logbook"
	"havvel/internal/project"
	"havvel/internal/rulebook"
)

// atEach does something at each destination. One that fails does not hinder the others.
func (k *Desk) atEach(
	ctx context.Context,
	do func(context.Context, *project.Destination) (now *deliver.Status, next string, err error),
) (*Deliveries, error) {
	out := newDeliveries()
	var failed error
	for _, d := range k.Destinations {
		now, next, err := do(ctx, d)
		out.then(next)
		failed = errors.Join(failed, err)
		out.add(now)
		if ctx.Err() != nil {
			break
		}
	}
	return out, failed
}

// Publish makes the last version that was sent to each destination public.
func (k *Desk) Publish(ctx context.Context) (*Deliveries, error) {
	if k.DryRun {
		return k.atEach(ctx, k.publish)
	}
	beside := k.abreast()
	all := len(k.Destinations)
	now, next, failures := make([]*deliver.Status, all), make([]string, all), make([]error, all)
	for i, d := range k.Destinations {
		one := beside.errand(d)
		beside.at(d, one, func() { now[i], next[i], failures[i] = one.publish(ctx, d) })
	}
	beside.work.Wait()
	out := newDeliveries()
	for i := range k.Destinations {
		out.then(next[i])
		out.add(now[i])
	}
	return out, errors.Join(failures...)
}

func (k *Desk) publish(ctx context.Context, d *project.Destination) (now *deliver.Status, next string, err error) {
	if err := k.adopt(ctx, d); err != nil {
		return nil, "", err
	}
	last, err := Last(k.Courier, d)
	if err != nil {
		return nil, "", err
	}
	if !deliver.Can(d, deliver.Publish) {
		return nil, "", deliver.No(d, deliver.Publish)
	}
	if k.DryRun {
		would := &deliver.Status{Delivery: last, Would: rulebook.Public}
		k.Tell(Would{At: d, Status: would})
		k.permanent(d)
		return would, "", nil
	}
	if now, err = k.Courier.Ask(ctx, d, last, 0); err != nil {
		return nil, "", err
	}
	if err := publishable(d, now); err != nil {
		return nil, "", err
	}
	if now.State != rulebook.Public {
		k.permanent(d)
		k.Courier.Warn = k.loses
		if now, err = k.Courier.Publish(ctx, d, now.Delivery); err != nil {
			return nil, "", k.unfit(d, err)
		}
	}
	k.Tell(Became{At: d, Status: now})
	if err := k.lookAfter(ctx, d, now); err != nil {
		return now, "", err
	}
	switch {
	case now.Link() != "":
		next = "open the link as a stranger would, and play it once"
	case !deliver.Can(d, deliver.Headers):
		next = fmt.Sprintf("set public under [to.%s] in havvel.toml, so that havvel knows the link and can look at what players get", d.Name)
	}
	return now, next, nil
}

// Restrict shows the last version to those who have a password, and keeps the password with the keys.
func (k *Desk) Restrict(ctx context.Context) (*Deliveries, error) { return k.atEach(ctx, k.restrict) }

func (k *Desk) restrict(ctx context.Context, d *project.Destination) (now *deliver.Status, next string, err error) {
	last, err := Last(k.Courier, d)
	if err != nil {
		return nil, "", err
	}
	if !deliver.Can(d, deliver.Restrict) {
		return nil, "", deliver.No(d, deliver.Restrict)
	}
	if k.DryRun {
		would := &deliver.Status{Delivery: last, Would: last.State}
		k.Tell(Would{At: d, Status: would, Locked: true})
		return would, "", nil
	}
	password, err := k.Password(d)
	if err != nil {
		return nil, "", err
	}
	if now, err = k.Courier.Restrict(ctx, d, last, password); err != nil {
		return nil, "", k.unfit(d, err)
	}
	key := d.PageKey()
	key.Secret, key.Set = password, k.Courier.Now().UTC().Truncate(1e9)
	if err := keys.Open().Set(key); err != nil {
		return now, "", err
	}
	k.Tell(Became{At: d, Status: now, Locked: true})
	return now, fmt.Sprintf("havvel where --share --password --to %s  (lines to paste)", d.Name), nil
}

// Other has each portal do something with the last version beside the usual; detail is what it needs for that.
func (k *Desk) Other(ctx context.Context, what deliver.Ability, detail any) (*Deliveries, error) {
	return k.atEach(ctx, func(ctx context.Context, d *project.Destination) (*deliver.Status, string, error) {
		last, err := Last(k.Courier, d)
		if err != nil {
			return nil, "", err
		}
		if !deliver.Can(d, what) {
			return nil, "", deliver.No(d, what)
		}
		if k.DryRun {
			would := &deliver.Status{Delivery: last, Would: last.State}
			k.Tell(WouldDo{At: d, Status: would, What: what})
			return would, "", nil
		}
		now, err := k.Courier.Do(ctx, d, last, what, detail)
		if err != nil {
			return nil, "", err
		}
		k.Tell(Did{At: d, Status: now, What: what})
		next := ""
		if awaited(d, now.State) {
			next = "havvel where --wait" + toFlags(k.Project, []string{d.Name})
		}
		return now, next, nil
	})
}

// Back makes an earlier version public again at each destination: the one named, or with "" the one that was public before.
func (k *Desk) Back(ctx context.Context, version string) (*Deliveries, error) {
	return k.atEach(ctx, func(ctx context.Context, d *project.Destination) (*deliver.Status, string, error) {
		return k.back(ctx, d, version)
	})
}

func (k *Desk) back(ctx context.Context, d *project.Destination, version string) (*deliver.Status, string, error) {
	if err := k.adopt(ctx, d); err != nil {
		return nil, "", err
	}
	now, to, err := k.toward(d, version)
	if err != nil {
		return nil, "", err
	}
	instead := ""
	if now != nil {
		instead = now.Version
	}
	switch {
	case to == now:
		k.Tell(Has{d, to.Version, true})
		return &deliver.Status{Delivery: to}, "", nil
	case k.DryRun:
		would := &deliver.Status{Delivery: to, Would: rulebook.Public}
		k.Tell(Would{At: d, Status: would, Instead: instead})
		return would, "", nil
	}
	k.Courier.Warn = k.loses
	status, err := k.Courier.Back(ctx, d, to)
	if err != nil {
		return nil, "", k.unfit(d, err)
	}
	k.Tell(Became{At: d, Status: status, Instead: instead})
	if err := k.lookAfter(ctx, d, status); err != nil {
		return status, "", err
	}
	return status, "fix the later version, and send it again under a new number", nil
}

// toward returns the version to make public again at a destination. now is the public one, which may be nil, or the version itself. The
// error says why there is none, and what to do instead.
func (k *Desk) toward(d *project.Destination, version string) (now, to *logbook.Delivery, err error) {
	now, to, err = k.Courier.Earlier(d, version)
	switch {
	case err != nil || to != nil:
		return now, to, err
	case version != "":
		return now, nil, fault.New(fault.No, "version %s was never sent to %s", version, d.Name).
			Then("havvel logbook --to %s lists those that were", d.Name)
	case now != nil:
		return now, nil, fault.New(fault.No, "%s is public on %s, and nothing was public before it", now.Version, d.Name).
			Then("havvel back --off takes it offline, so that nothing is public there; havvel logbook lists what was sent")
	}
	if _, err := Last(k.Courier, d); err != nil {
		return nil, nil, err
	}
	return nil, nil, fault.New(fault.No, "nothing is public on %s, and nothing was replaced there", d.Name).
		Then("havvel logbook --to %s lists what was sent; havvel publish makes the last version public, havvel back VERSION another", d.Name)
}

// TakeOff takes the public version of each destination offline.
func (k *Desk) TakeOff(ctx context.Context) (*Deliveries, error) { return k.atEach(ctx, k.takeOff) }

func (k *Desk) takeOff(ctx context.Context, d *project.Destination) (*deliver.Status, string, error) {
	if err := k.adopt(ctx, d); err != nil {
		return nil, "", err
	}
	now, _, err := k.Courier.Earlier(d, "")
	if err != nil {
		return nil, "", err
	}
	if now == nil {
		return nil, "", fault.New(fault.No, "nothing is public on %s", d.Name)
	}
	if k.DryRun {
		would := &deliver.Status{Delivery: now, Would: rulebook.Withdrawn}
		k.Tell(Would{At: d, Status: would})
		return would, "", nil
	}
	status, err := k.Courier.Withdraw(ctx, d, now)
	if err != nil {
		return status, "", err
	}
	k.Tell(Became{At: d, Status: status})
	return status, fmt.Sprintf("havvel back %s --to %s  (makes it public again)", now.Version, d.Name), nil
}

// permanent tells what can't be undone once the game is public at a destination for the first time; nothing when it was public before.
func (k *Desk) permanent(d *project.Destination) {
	all, _, err := k.Courier.Book.Deliveries()
	if err != nil {
		return // said when it is needed
	}
	for _, l := range all {
		if l.Destination == d.Name && (l.State == rulebook.Public || l.State == rulebook.Replaced || l.State == rulebook.Withdrawn) {
			return
		}
	}
	for _, f := range d.Rules.Finals {
		if f.What == "short" {
			k.Tell(Permanent{Says: f.Says + " (" + k.Project.Game.Short + ")"})
		}
	}
}

// lookAfter looks at what players get of a public delivery on a site, after it became so; the error is that it differs from what was sent.
func (k *Desk) lookAfter(ctx context.Context, d *project.Destination, s *deliver.Status) error {
	if !deliver.Can(d, deliver.Compare) || s.State != rulebook.Public {
		return nil
	}
	seen, err := s.Seen, error(nil)
	if seen == nil {
		seen, err = k.Courier.Look(ctx, d, s.Delivery)
	}
	if err != nil && ctx.Err() != nil {
		return ctx.Err()
	}
	k.Tell(Looked{d, seen, err})
	if err == nil && len(seen.Differences) > 0 {
		return fault.Said
	}
	return nil
}

// adopt has the logbook know what a destination holds, unless nothing may be asked.
func (k *Desk) adopt(ctx context.Context, d *project.Destination) error {
	if k.DryRun {
		return nil
	}
	return k.Courier.Adopt(ctx, d)
}

// loses tells what players lose by what comes next.
func (k *Desk) loses(says string) { k.Tell(Loses{says}) }

// unfit tells what is wrong with what players get, where that is the reason of an error.
func (k *Desk) unfit(d *project.Destination, err error) error {
	var unfit *deliver.Unfit
	if errors.As(err, &unfit) {
		k.Tell(Looked{d, unfit.Seen, nil})
	}
	return err
}
