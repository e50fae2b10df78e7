package deliver

import (
	"cmp"
	"context"
	"fmt"

	"havvel/internal/deliver/portal"
	"havvel/internal/deliver/site"
	"havvel/internal/fault"
	"havvel/internal/logbook"
	"havvel/internal/rulebook"
)

// Unfit says that players would get a version in another form than it was sent, or were not led to it.
type Unfit struct {
	Version, Link string
	Seen          *Live
	Switched      bool // it was current for a moment
	Back          bool // then players have what they had again, as was seen
}

func (e *Unfit) Error() string {
	switch {
	case !e.Switched:
		return fmt.Sprintf("version %s is not public: players would not get it as it was sent; nothing was changed", e.Version)
	case e.Back:
		return fmt.Sprintf("version %s is not public: its link did not open, so it was taken back; players have what they had", e.Version)
	}
	return fmt.Sprintf("version %s was made public, its link did not open, and whether players have what they had can't be told", e.Version)
}

// Fault tells it.
func (e *Unfit) Fault() *fault.Error {
	if e.Switched && !e.Back {
		return fault.Tell(e, fault.Unreachable, "open "+e.Link+" yourself; havvel where says what is current on the site")
	}
	return fault.Tell(e, fault.No, "fix that on the web server, or go on all the same with --accept-differences")
}

// A holding is what a site has, as far as one version needs it.
type holding struct {
	index    *site.Index
	contents *site.Contents // of the version
	current  *site.Contents // of the one that is current; nil for none
}

// holds reads what the site has.
func (t *siteTarget) holds(ctx context.Context, folder string) (*holding, error) {
	on := &holding{}
	err := t.onSite(ctx, t.to, func(ctx context.Context, s *site.Site) (err error) {
		if on.index, err = s.Index(ctx); err != nil {
			return err
		}
		if on.contents, err = s.Contents(ctx, folder); err != nil {
			return err
		}
		if on.contents == nil {
			return &site.Gone{Folder: folder}
		}
		if on.index.Current != "" {
			on.current, err = s.Contents(ctx, on.index.Current)
		}
		return err
	})
	return on, err
}

// Release makes a delivery the current one. Where it is known where players go, every file is looked at there before, and the link
// after it. A link that doesn't open then is switched back.
func (t *siteTarget) Release(ctx context.Context, l *logbook.Delivery, by Ability) (*portal.Answer, *Live, error) {
	folder := l.Values.Text(folderValue)
	answer := &portal.Answer{State: rulebook.Public, Link: t.to.Public}
	if end := t.to.Ends(); !end.IsZero() && !t.Now().Before(end) {
		return nil, nil, t.Project.Problem("to."+t.to.Name+".until", "players would see that it is over: %s is past", t.to.Until).
			Then("set a later day, or take it out")
	}
	on, err := t.holds(ctx, folder)
	if err != nil {
		return nil, nil, err
	}
	looks := t.Can(Compare) && !t.Anyway
	var seen *Live
	if looks {
		if seen, err = t.lookAhead(ctx, folder, on.contents); err != nil {
			return nil, nil, err
		}
		if seen.unfit() {
			return nil, nil, &Unfit{Version: l.Version, Link: t.to.Public, Seen: seen}
		}
	}
	t.warn(on, l.Version)
	change, err := t.become(ctx, folder, by == Back || t.Over)
	if err != nil || !looks {
		return answer, nil, err
	}
	if change.Left != nil && t.Warn != nil {
		t.Warn("what is more than keep could not be taken away; the next publish tries again: " + change.Left.Error())
	}
	v := t.visitor()
	v.seen.Differences = seen.Differences
	if _, err := v.leads(ctx, shown{folder, change.Page}); err != nil {
		return answer, nil, nil // who looks next says that players can't be reached
	}
	seen.Differences = v.seen.Differences
	if !seen.unfit() {
		return answer, seen, nil
	}
	return nil, nil, &Unfit{Version: l.Version, Link: t.to.Public, Seen: seen, Switched: true, Back: t.takeBack(ctx, change.Before)}
}

// warn tells what players lose by a switch.
func (t *siteTarget) warn(on *holding, version string) {
	if t.Warn == nil || on.current == nil {
		return
	}
	was, becomes := on.index.AtRoot(), on.contents.Stand.Root
	switch {
	case was && !becomes:
		t.Warn(fmt.Sprintf("%s opens in a folder of its own (%s): what players saved by the address of %s isn't found there",
			version, on.contents.Stand.Because(), on.current.Version))
	case !was && becomes:
		t.Warn("from now on the game stands at the site's own address; what players saved by the address of " + on.current.Version +
			"'s folder isn't found there, this once")
	}
	if on.current.Stand.Worker && !on.contents.Stand.Worker {
		t.Warn("the service worker that " + on.current.Version + " left in players' browsers is taken away when they come back")
	}
}

func (t *siteTarget) visitor() *visitor {
	v := newVisitor(t.to.Public)
	v.isolated, v.password = t.to.Isolation, cmp.Or(t.word, t.to.PagePassword())
	return v
}

// lookAhead looks at every file of a version where players will get it.
func (t *siteTarget) lookAhead(ctx context.Context, folder string, c *site.Contents) (*Live, error) {
	v := t.visitor()
	v.inline = c.Stand.Root
	seen, err := v.files(ctx, folder, c.Files, t.to.Serves)
	if err != nil && ctx.Err() == nil {
		return nil, fault.New(fault.Of(err).Kind, "%s; nothing was changed", err.Error()).
			Then("--accept-differences goes on without looking at what players get")
	}
	return seen, err
}

// become makes a version current.
func (t *siteTarget) become(ctx context.Context, folder string, over bool) (change site.Change, err error) {
	err = t.onSite(ctx, t.to, func(ctx context.Context, s *site.Site) (err error) {
		change, err = s.Switch(ctx, folder, over)
		return err
	})
	return change, err
}

// takeBack makes the version current that was so before, and reports whether players were seen to have it: the link opens, and leads there.
func (t *siteTarget) takeBack(ctx context.Context, before string) bool {
	change, err := t.become(ctx, before, true)
	if err != nil {
		return false
	}
	v := t.visitor()
	if before == "" { // players had nothing to play
		now, err := v.index(ctx, true)
		return err == nil && now.Current == ""
	}
	leads, err := v.leads(ctx, shown{before, change.Page})
	return err == nil && leads && !v.seen.unfit()
}

// unfit reports whether something is wrong with what players get that is not a cache's doing.
func (l *Live) unfit() bool {
	for _, d := range l.Differences {
		if d.Kind != "stale" && d.Kind != "cache" {
			return true
		}
	}
	return false
}
