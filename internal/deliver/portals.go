package deliver

import (
	"context"
	"net/http"
	"time"

	"havvel/internal/deliver/portal"
	"havvel/internal/fault"
	"havvel/internal/logbook"
	"havvel/internal/project"
	"havvel/internal/rulebook"
)

// portalTarget is a portal, which does what its rulebook has recipes for.
type portalTarget struct {
	*Courier
	to *project.Destination
}

// recipe is the steps that a portal takes to do something.
func recipe(r *rulebook.Rulebook, what Ability) []rulebook.Step {
	return map[Ability][]rulebook.Step{
		Send: r.Send, Follow: r.Follow, Publish: r.Publish, Back: r.Back, Withdraw: r.Withdraw, List: r.List, Restrict: r.Restrict, Fill: r.Fill,
	}[what]
}

func (t *portalTarget) Can(what Ability) bool {
	return what == Headers || len(recipe(t.to.Rules, what)) > 0
}

// inWords say what abilities are.
var inWords = map[Ability]string{
	Send: "upload a version", Follow: "follow a version", Publish: "make a version public", Back: "make an earlier version public again",
	Withdraw: "take a version offline", List: "list versions", Restrict: "show a version to those with a password",
	Fill: "fill in the game's page",
}

func (t *portalTarget) No(what Ability) error {
	switch what {
	case Publish:
		return fault.New(fault.No, "%s makes versions public by itself; there is nothing to do", t.to.Rules.Name)
	case Send:
		return fault.New(fault.No, "can't send to %s: its rulebook has no [[send]] steps", t.to.Rules.Name).
			Then("havvel pack writes the archive, to be uploaded by hand")
	}
	return fault.New(fault.No, "the rulebook of %s does not say how to %s (it has no [[%s]] steps)", t.to.Rules.Name, inWords[what], what).
		Then("do it on the portal's own page; docs/formats/rulebook.md says how to add the steps")
}

func (t *portalTarget) Send(ctx context.Context, p Parcel) (Receipt, error) {
	session, err := t.sendSession(t.to, p)
	if err != nil {
		return Receipt{}, err
	}
	m := t.memory(t.to, p)
	session.Remember = m.keep
	answer, err := session.Send(ctx, t.to.Rules.Send, m.from())
	return Receipt{Answer: answer, Values: kept(t.to, session.Values), Done: m.forget}, err
}

// run runs a recipe for a delivery.
func (t *portalTarget) run(ctx context.Context, l *logbook.Delivery, what Ability, wait time.Duration) (*portal.Answer, error) {
	session, err := t.resume(t.to, l)
	if err != nil {
		return nil, err
	}
	return session.Run(ctx, recipe(t.to.Rules, what), wait)
}

func (t *portalTarget) Ask(ctx context.Context, l *logbook.Delivery, wait time.Duration) (*portal.Answer, error) {
	return t.run(ctx, l, Follow, wait)
}

func (t *portalTarget) Release(ctx context.Context, l *logbook.Delivery, by Ability) (*portal.Answer, error) {
	return t.run(ctx, l, by, 0)
}

func (t *portalTarget) Withdraw(ctx context.Context, l *logbook.Delivery) (*portal.Answer, error) {
	return t.run(ctx, l, Withdraw, 0)
}

func (t *portalTarget) Restrict(ctx context.Context, l *logbook.Delivery, password string) (*portal.Answer, error) {
	session, err := t.resume(t.to, l)
	if err != nil {
		return nil, err
	}
	session.Hide("password", password)
	return session.Run(ctx, t.to.Rules.Restrict, 0)
}

func (t *portalTarget) List(ctx context.Context) ([]Known, error) {
	session, err := t.session(t.to, nil)
	if err != nil {
		return nil, err
	}
	answer, err := session.Run(ctx, t.to.Rules.List, 0)
	if err != nil {
		return nil, err
	}
	var list []Known
	for i, v := range answer.Versions {
		k := Known{Version: v}
		if i < len(answer.States) {
			k.State = answer.States[i]
		}
		list = append(list, k)
	}
	return list, nil
}

// Look fetches the page only: what stands around the game is the portal's own.
func (t *portalTarget) Look(ctx context.Context, l *logbook.Delivery) (*Live, error) {
	return newVisitor(l.Link).page(ctx, l.Link)
}

func newVisitor(link string) *visitor {
	transport := &http.Transport{DisableCompression: true, Proxy: http.ProxyFromEnvironment, MaxIdleConnsPerHost: 8}
	return &visitor{link: link, client: &http.Client{Timeout: 5 * time.Minute, Transport: transport}}
}
