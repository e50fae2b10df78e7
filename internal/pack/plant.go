package pack

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"

	"havvel/internal/export/web"
	"havvel/internal/hooks"
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
		page := web.ReadPage(data)
		if !h.Plant || hooks.Present(page, h) {
			continue
		}
		p.entry.text = hooks.Plant(data, page, h)
		p.note("plant", int64(len(p.entry.text)-len(data)), fmt.Sprintf("it %s", h.Why), "the %s (%s) in %s", h.Name, h.Script, p.entry.Name)
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

// StampFormat is the version of the stamp's format.
const StampFormat = "havvel-build/1"

// stamp adds a file that says which build this is. There is no clock in it: the same input gives the same bytes.
func stamp(_ context.Context, p *Plan) error {
	if p.to.Version == "" {
		return nil // of no version in particular
	}
	var b bytes.Buffer
	e := json.NewEncoder(&b)
	e.SetIndent("", "  ")
	if err := e.Encode(Stamp{StampFormat, p.to.Short, p.to.Version, p.to.Destination, p.build.Fingerprint}); err != nil {
		return err
	}
	p.Items = append(p.Items, &Item{Name: StampName, text: b.Bytes()})
	p.note("stamp", int64(b.Len()), "so that anyone can tell which build is live", "%s", StampName)
	return nil
}
