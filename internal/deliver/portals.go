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
	"havvel/internal/rulebook/expression"
)

// portalTarget is a portal, which does what its rulebook has recipes for.
type portalTarget struct {
	*Courier
	to *project.Destination
}

// recipe is the steps that a portal takes to do something.
func recipe(r *rulebook.Rulebook, what Ability) []rulebook.Step { return r.Recipes.Steps(string(what)) }

func (t *portalTarget) Can(what Ability) bool {
	return what == Headers || len(recipe(t.to.Rules, what)) > 0
}

// inWords say what abilities are.
var inWords = map[Ability]string{
	Send: "upload a version", Follow: "follow a version", Publish: "make a version public", Back: "make an earlier version public again",
	Withdraw: "take a version offline", List: "list versions", Restrict: "show a version to those with a password",
	Fill: "fill in the game's page", Submit: "hand a version in for review", Recall: "take a version back from review",
	Schedule: "make a version public at a time", Stage: "show a version to a share of the players",
	Testers: "show a version to a list of testers", Replace: "replace the files of a version",
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
		Then("do it on the portal's own page; havvel help rulebook says how to add the steps")
}

func (t *portalTarget) Send(ctx context.Context, p Parcel) (Receipt, error) {
	session, err := t.sendSession(t.to, p)
	if err != nil {
		return Receipt{}, err
	}
	steps := t.to.Rules.Send
	if before := t.same(p); before != nil && len(t.to.Rules.Replace) > 0 && p.Again {
		steps = t.to.Rules.Replace
		for name, v := range before.Values {
			session.Know(name, expression.Exact(v))
		}
	}
	m := t.memory(t.to, p, steps)
	if err := m.lock(); err != nil {
		return Receipt{}, err
	}
	defer m.unlock()
	session.Ledger, session.Again = m.ledger(), p.Again
	answer, err := session.Send(ctx, steps)
	if err == nil && answer.State == "" && answer.Asked {
		answer.State = rulebook.Verifying
	}
	return Receipt{Answer: answer, Values: kept(t.to, session), Done: m.forget}, err
}

// same is the last delivery of a version to the portal; nil where there is none.
func (t *portalTarget) same(p Parcel) (last *logbook.Delivery) {
	all, _, err := t.Book.Deliveries()
	if err != nil {
		return nil
	}
	for _, l := range all {
		if l.Destination == t.to.Name && l.Version == p.Version && l.State != rulebook.Unknown {
			last = l
		}
	}
	return last
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
	if l.State == rulebook.Unknown && len(l.Values) < len(t.to.Rules.Keep) {
		return &portal.Answer{State: l.State, Reasons: l.Reasons}, nil // what it is called there was lost, too
	}
	return t.run(ctx, l, Follow, wait)
}

func (t *portalTarget) Release(ctx context.Context, l *logbook.Delivery, by Ability) (*portal.Answer, *Live, error) {
	answer, err := t.run(ctx, l, by, portal.ByRulebook)
	return answer, nil, err
}

func (t *portalTarget) Withdraw(ctx context.Context, l *logbook.Delivery) (*portal.Answer, error) {
	return t.run(ctx, l, Withdraw, portal.ByRulebook)
}

func (t *portalTarget) Do(ctx context.Context, l *logbook.Delivery, what Ability, detail any) (*portal.Answer, error) {
	session, err := t.resume(t.to, l)
	if err != nil {
		return nil, err
	}
	switch what {
	case Restrict:
		session.Hide("password", detail.(string))
	case Schedule:
		session.Know("at", detail.(time.Time).UTC().Format(time.RFC3339))
	case Stage:
		session.Know("players", detail)
	case Testers:
		session.Know("testers", detail)
	}
	return session.Run(ctx, recipe(t.to.Rules, what), portal.ByRulebook)
}

func (t *portalTarget) List(ctx context.Context) ([]Known, error) {
	session, err := t.session(t.to, nil)
	if err != nil {
		return nil, err
	}
	answer, err := session.Run(ctx, t.to.Rules.List, portal.ByRulebook)
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
