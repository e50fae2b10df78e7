package pack

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"slices"

	"havvel/internal/export/web"
	"havvel/internal/hooks"
	"havvel/internal/rulebook"
)

// plant puts the portal's scripts into the entry page, where they are wanted and absent.
func plant(ctx context.Context, p *Plan) error {
	if p.to.Rules == nil || !p.to.Plants {
		return nil
	}
	for _, h := range p.to.Rules.Hooks {
		data, err := p.page(ctx)
		if err != nil {
			return err
		}
		if data == nil {
			return nil
		}
		if !h.Plant {
			continue
		}
		page := web.ReadPage(data)
		if !hooks.Present(page, h) {
			p.entry.text = hooks.Plant(data, page, h)
			p.note("plant", int64(len(p.entry.text)-len(data)), fmt.Sprintf("it %s", h.Why), "the %s (%s) in %s", h.Name, h.Script, p.entry.Name)
		}
		if err := p.adapt(ctx, h); err != nil {
			return err
		}
	}
	return nil
}

// adapt puts the adapter beside a hook's script, where the game sends events.
func (p *Plan) adapt(ctx context.Context, h rulebook.Hook) error {
	wanted := func(has func(event string) bool) bool {
		return slices.ContainsFunc(h.Calls, func(c rulebook.Call) bool { return has(c.Event) })
	}
	infers := wanted(p.to.Inferred.Has)
	if !infers && !wanted(func(event string) bool { return hooks.Sends(p.build, event) }) {
		return nil
	}
	data, err := p.page(ctx)
	if err != nil {
		return err
	}
	values := map[string]string{"game.short": p.to.Short, "game.title": p.to.Title, "version": p.to.Version}
	if with := hooks.Adapt(data, web.ReadPage(data), h, values); len(with) > len(data) {
		p.entry.text = with
		p.note(
			"plant",
			int64(len(with)-len(data)),
			fmt.Sprintf("it turns the events that the game sends into the calls that %s wants", p.to.Rules.Name),
			"an adapter in %s",
			p.entry.Name,
		)
	}
	if !infers {
		return nil
	}
	if data, err = p.page(ctx); err != nil {
		return err
	}
	if with := hooks.Infer(data, web.ReadPage(data), p.to.Inferred); len(with) > len(data) {
		p.entry.text = with
		grown := int64(len(with) - len(data))
		p.note("plant", grown, "havvel.toml names what it is to find out by itself", "what infers events in %s", p.entry.Name)
	}
	return nil
}

// A Stamp says which build something is.
type Stamp struct {
	Format      string `json:"format"`
	Game        string `json:"game"`
	Version     string `json:"version"`
	Destination string `json:"destination"`
	Fingerprint string `json:"fingerprint"` // of the export that it was made from
}

// stampFormat is the version of the stamp's format.
const stampFormat = "havvel-build/1"

// stamp adds a file that says which build this is. There is no clock in it: the same input gives the same bytes.
func stamp(_ context.Context, p *Plan) error {
	if p.to.Version == "" {
		return nil // of no version in particular
	}
	var b bytes.Buffer
	e := json.NewEncoder(&b)
	e.SetIndent("", "  ")
	if err := e.Encode(Stamp{stampFormat, p.to.Short, p.to.Version, p.to.Destination, p.build.Fingerprint}); err != nil {
		return err
	}
	p.Items = append(p.Items, &Item{Name: StampName, text: b.Bytes()})
	p.note("stamp", int64(b.Len()), "so that anyone can tell which build is live", "%s", StampName)
	return nil
}
