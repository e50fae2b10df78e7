package app

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"havvel/internal/deliver"
	"havvel/internal/export"
	"havvel/internal/fault"
	"havvel/internal/logbook"
	"havvel/internal/pack"
	"havvel/internal/project"
	"havvel/internal/rulebook"
)

// A Sending is how a version is to be sent.
type Sending struct {
	Choices
	Proving
	Version   string
	Again     bool // also what was sent before
	BuildOnly bool // and nothing of the page
	Requests  bool // tell each request of a dry run
	Wait      bool // until the portals have decided
	Limit     time.Duration
}

// Send sends a build to all destinations that lack it, and what has changed of their pages. The error is a *Barred where the build has
// errors; then nothing was sent anywhere.
func (k *Desk) Send(ctx context.Context, b *export.Build, how Sending) (*Deliveries, error) {
	destinations, pages, err := k.Destinations, map[string]*deliver.Contents{}, error(nil)
	if !how.BuildOnly {
		if pages, err = k.SendablePages(ctx, destinations, how.Version); err != nil {
			return nil, err
		}
	}
	var pageOnly, have []*project.Destination
	if !how.Again {
		if destinations, pageOnly, have, err = k.unsent(pages, how.Version, b.Fingerprint); err != nil {
			return nil, err
		}
		for _, d := range have {
			k.Tell(Has{At: d, Version: how.Version})
		}
	}
	for _, d := range destinations { // all of them before the first byte goes out
		if err := k.sendable(d, b, how); err != nil {
			return nil, err
		}
	}
	out := newDeliveries()
	if len(pageOnly) > 0 {
		if out, err = k.sendPages(ctx, pageOnly, how.Again); err != nil || len(destinations) == 0 {
			return out, err
		}
	}
	return out, k.sendAll(ctx, destinations, b, pages, how, out)
}

// sendAll sends a build to some destinations. While it goes to one, it is packed for the next.
func (k *Desk) sendAll(
	ctx context.Context, destinations []*project.Destination, b *export.Build, pages map[string]*deliver.Contents, how Sending,
	out *Deliveries,
) error {
	prover, err := k.prover(how.Proving)
	if err != nil {
		return err
	}
	beside := k.abreast()
	arrived, failures := make([]*deliver.Status, len(destinations)), make([]error, len(destinations))
	for i, d := range destinations {
		if ctx.Err() != nil {
			break
		}
		if k.DryRun {
			arrived[i], failures[i] = k.wouldSend(ctx, d, b, pages[d.Name], how)
			continue
		}
		k.Courier.Ready(ctx, d)
		one := beside.errand(d)
		made, err := one.make(ctx, prover, d, b, how)
		if failures[i] = err; err != nil {
			one.end()
			continue
		}
		beside.at(d, one, func() { arrived[i], failures[i] = one.handOver(ctx, d, made, pages[d.Name], how) })
	}
	beside.work.Wait()
	failed := errors.Join(failures...)
	sent := slices.DeleteFunc(arrived, func(s *deliver.Status) bool { return s == nil })
	if how.Wait && !k.DryRun {
		failed = errors.Join(failed, k.awaitAll(ctx, sent, how.Limit))
	}
	for _, s := range sent {
		out.add(s)
	}
	if len(sent) > 0 && !k.DryRun {
		out.then(Next(k.Project, sent))
	}
	return failed
}

// unsent are the destinations that lack this version of this export, when there are any; so a command that failed at one of
// several can be run again.
//
// pageOnly are those that have it, and lack what has changed of their page; have are those that lack nothing.
func (k *Desk) unsent(
	pages map[string]*deliver.Contents,
	version, fingerprint string,
) (left, pageOnly, have []*project.Destination, err error) {
	for _, d := range k.Destinations {
		var before *deliver.AlreadySent
		err := k.Courier.Fresh(d, version, fingerprint)
		if errors.As(err, &before) && before.Same && !before.Lost() && before.Before.Version == version &&
			before.Before.State != rulebook.Refused {
			if page := pages[d.Name]; page != nil && k.Courier.Unfilled(d, page, version) {
				pageOnly = append(pageOnly, d)
			} else {
				have = append(have, d)
			}
			continue
		}
		if err != nil && before == nil {
			return nil, nil, nil, err
		}
		left = append(left, d)
	}
	if len(left) == 0 && len(pageOnly) == 0 {
		return k.Destinations, nil, nil, nil // which then is refused
	}
	return left, pageOnly, have, nil
}

// sendable says what forbids sending a build to a destination, before the first byte goes out. The error is a *Barred where it is what
// check finds.
func (k *Desk) sendable(d *project.Destination, b *export.Build, how Sending) error {
	if !deliver.Can(d, deliver.Send) {
		return deliver.No(d, deliver.Send)
	}
	if _, err := Wanted(k.Project, d, b, how.Version, how.Choices); err != nil {
		return err
	}
	if why := untried(k.Project, d, b); why != "" && !how.AcceptErrors {
		return fault.New(fault.No, "not sent to %s: havvel.toml requires a clean trial of this export, and %s", d.Rules.Name, why).
			Then("run havvel trial first")
	}
	if !how.Again {
		if err := k.Courier.Fresh(d, how.Version, b.Fingerprint); err != nil {
			return err
		}
	}
	if _, err := d.Secret(); err != nil && !k.DryRun {
		return err
	}
	return nil
}

// planned is how a build is handed over to a destination. The cache is to be closed.
func (k *Desk) planned(
	ctx context.Context, d *project.Destination, b *export.Build, how Sending,
) (cache *pack.Cache, to pack.For, plan *pack.Plan, err error) {
	if d.Unprotected() {
		k.Tell(Loses{fmt.Sprintf("others on the way to %s can read its password and change the game (insecure in havvel.toml)", d.Name)})
	}
	if to, err = packFor(k.Project, d, b, how.Version, how.Choices); err != nil {
		return nil, to, nil, err
	}
	to.Report = k.Report
	if cache, err = pack.Open(k.Project.CacheFolder()); err != nil {
		return nil, to, nil, err
	}
	if plan, err = cache.Plan(ctx, b, to); err != nil {
		cache.Close()
	}
	return cache, to, plan, err
}

// make packs what a destination gets, and proves it.
func (k *Desk) make(ctx context.Context, p *prover, d *project.Destination, b *export.Build, how Sending) (*parcel, error) {
	cache, to, plan, err := k.planned(ctx, d, b, how)
	if err != nil {
		return nil, err
	}
	defer cache.Close()
	if slices.ContainsFunc(b.Parts(), func(f *export.File) bool { return f.Encoding != "" }) {
		k.Tell(Packs{d})
	}
	seen, stop := p.beside(ctx, d, b, plan, how.Choices, replanWith(cache, b, to))
	defer stop()
	archive, err := plan.Write(ctx, ArchivePath(k.Project, d, "", how.Version), k.Report)
	if err != nil {
		return nil, err
	}
	if seen.Answer != "" {
		k.Tell(Proved{d, seen})
	}
	picture, err := preview(ctx, k.Project, d, k.Report)
	if err != nil {
		return nil, err
	}
	return &parcel{deliver.Parcel{
		Stand: standOf(plan.Result(), seen), Preview: picture,
		Version: how.Version, Fingerprint: b.Fingerprint, Archive: archive, Again: how.Again, Proof: string(seen.Answer),
	}, seen.AtRoot}, nil
}

// A parcel is what a destination gets, and what was seen of it.
type parcel struct {
	deliver.Parcel
	atRoot bool // it was run with its page at the root
}

// handOver sends a parcel, and what has changed of the page.
func (k *Desk) handOver(
	ctx context.Context, d *project.Destination, made *parcel, page *deliver.Contents, how Sending,
) (*deliver.Status, error) {
	status, err := k.Courier.Send(ctx, d, made.Parcel)
	if err != nil {
		return nil, err
	}
	k.Tell(Sent{d, made.Archive, status, made.Stand, made.atRoot})
	if err := k.fill(ctx, d, page, status, how.Again); err != nil {
		return status, err
	}
	if !how.Wait {
		k.Tell(State{status})
	}
	return status, nil
}

// wouldSend tells what would be sent.
func (k *Desk) wouldSend(
	ctx context.Context, d *project.Destination, b *export.Build, page *deliver.Contents, how Sending,
) (*deliver.Status, error) {
	cache, _, plan, err := k.planned(ctx, d, b, how)
	if err != nil {
		return nil, err
	}
	defer cache.Close()
	k.Tell(WouldSend{d, how.Version, plan.Path(ArchivePath(k.Project, d, "", how.Version)), len(plan.Items)})
	if how.Requests {
		if err := k.requests(ctx, d, b, plan, how); err != nil {
			return nil, err
		}
	}
	k.wouldFill(d, page)
	line := logbook.Line{Destination: d.Name, Version: how.Version, Fingerprint: b.Fingerprint}
	return &deliver.Status{Delivery: &logbook.Delivery{Line: line}, Would: rulebook.Sent}, nil
}

// requests tells what an upload would ask a portal. The archive is made for that, elsewhere, and taken away again.
func (k *Desk) requests(ctx context.Context, d *project.Destination, b *export.Build, plan *pack.Plan, how Sending) error {
	folder, err := os.MkdirTemp("", "havvel-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(folder)
	archive, err := plan.Write(ctx, filepath.Join(folder, filepath.Base(ArchivePath(k.Project, d, "", how.Version))), k.Report)
	if err != nil {
		return err
	}
	return k.Courier.Requests(ctx, d, deliver.Parcel{Version: how.Version, Fingerprint: b.Fingerprint, Archive: archive}, k.Trace)
}

// awaitAll follows deliveries until the portals have decided, and tells what they decided. All have the same time: while one is waited
// for, the others decide, too.
func (k *Desk) awaitAll(ctx context.Context, sent []*deliver.Status, limit time.Duration) (failed error) {
	until := k.Courier.Now().Add(limit)
	for i, status := range sent {
		d := k.Project.To[status.Destination]
		switch {
		case awaited(d, status.State):
			k.Tell(Waits{d, limit})
		case len(sent) > 1:
			k.Tell(Follows{d})
		}
		after, err := k.Courier.Ask(ctx, d, status.Delivery, max(until.Sub(k.Courier.Now()), 0))
		if err != nil {
			failed = errors.Join(failed, err)
			continue
		}
		sent[i] = after
		k.Tell(State{after})
		failed = errors.Join(failed, decided(d, after, limit))
	}
	return failed
}

// SendPages fills in the pages of all destinations, for the version that they have.
func (k *Desk) SendPages(ctx context.Context, again bool) (*Deliveries, error) {
	return k.sendPages(ctx, k.Destinations, again)
}

func (k *Desk) sendPages(ctx context.Context, destinations []*project.Destination, again bool) (*Deliveries, error) {
	out := newDeliveries()
	var failed error
	for _, d := range destinations {
		status, err := k.sendPage(ctx, d, again)
		out.add(status)
		failed = errors.Join(failed, err)
		if ctx.Err() != nil {
			break
		}
	}
	for i := range out.List {
		out.List[i].News = false
	}
	return out, failed
}

func (k *Desk) sendPage(ctx context.Context, d *project.Destination, again bool) (*deliver.Status, error) {
	if !deliver.Can(d, deliver.Fill) {
		return nil, deliver.No(d, deliver.Fill)
	}
	last, err := Last(k.Courier, d)
	if err != nil {
		return nil, err
	}
	pages, err := k.SendablePages(ctx, []*project.Destination{d}, last.Version)
	if err != nil {
		return nil, err
	}
	page := pages[d.Name]
	if page == nil {
		return nil, fault.New(fault.No, "there is nothing to fill the page on %s with", d.Rules.Name).Then("write it under [listing] in %s",
			project.Name)
	}
	if k.DryRun {
		k.wouldFill(d, page)
		return &deliver.Status{Delivery: last, Would: last.State}, nil
	}
	k.Tell(PageOf{d, last.Version})
	status := &deliver.Status{Delivery: last}
	return status, k.fill(ctx, d, page, status, again)
}

// SendablePages renders the pages of those destinations whose rulebook says how to fill one in. The error says what a portal would
// refuse.
func (k *Desk) SendablePages(
	ctx context.Context,
	destinations []*project.Destination,
	version string,
) (map[string]*deliver.Contents, error) {
	var with []*project.Destination
	for _, d := range destinations {
		if deliver.Can(d, deliver.Fill) && pageBegun(k.Project) {
			with = append(with, d)
		}
	}
	pages, orders, err := Pages(ctx, k.Project, with, version, k.Report)
	if err != nil {
		return nil, err
	}
	for i, d := range with {
		if err := pageRefused(k.Project, d, pages[d.Name], orders[i]); err != nil {
			return nil, err
		}
	}
	return pages, nil
}

// wouldFill tells what would be sent to a page.
func (k *Desk) wouldFill(d *project.Destination, page *deliver.Contents) {
	if page != nil {
		k.Tell(Page{k.Courier.LastPage(d).Changed(page), true})
		k.finals(d, page)
	}
}

// fill sends what has changed of a page.
func (k *Desk) fill(ctx context.Context, d *project.Destination, page *deliver.Contents, status *deliver.Status, again bool) error {
	if page == nil || !k.Courier.Unfilled(d, page, status.Version) {
		return nil
	}
	k.finals(d, page)
	filled, err := k.Courier.Fill(ctx, d, page, status.Delivery, again)
	if err != nil {
		return fmt.Errorf("the page on %s is not filled in: %w", d.Rules.Name, err)
	}
	k.Tell(Page{filled.Changed, false})
	return nil
}

// finals tells what can't be undone of what is about to be sent.
func (k *Desk) finals(d *project.Destination, page *deliver.Contents) {
	leaderboards := k.Courier.NewLeaderboards(d, page.Page)
	for _, f := range d.Rules.Finals {
		switch {
		case f.What == "leaderboard" && len(leaderboards) > 0:
			k.Tell(Permanent{fmt.Sprintf("%s (new: %s)", f.Says, strings.Join(leaderboards, ", ")), true})
		case f.What == "declaration" && len(page.Declared()) > 0:
			k.Tell(Permanent{fmt.Sprintf("%s (declared: %s)", f.Says, strings.Join(page.Declared(), ", ")), true})
		}
	}
}
