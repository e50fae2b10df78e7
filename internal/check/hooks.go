package check

import (
	"fmt"

	"havvel/internal/hooks"
)

var hookChecks = []*Check{
	{
		ID:    "hook-absent",
		Title: "A script that the portal wants is not in the page",
		Level: Error,
		Text: "The portal wants its own script in the entry page, and refuses a build without it or shows it without its score boards " +
			"and breaks. havvel pack plants the script where the rulebook says, unless the destination says plant = false.",
		Before: `<head><script src="game.js">`,
		After:  `<head><script src="/sdk/portal.js"></script><script src="game.js">`,
		Run: func(p *Pass) {
			if p.Rules == nil || p.Build.Entry == nil || p.Build.Entry.Page == nil {
				return
			}
			for _, h := range p.Rules.Hooks {
				if !h.Required || hooks.Present(p.Build.Entry.Page, h) {
					continue
				}
				f := Finding{File: p.Build.Entry.Path, Message: fmt.Sprintf("the %s (%s) is not in the page; it %s", h.Name, h.Script, h.Why)}
				if !h.Plant || !p.Plants {
					f.Fix = fmt.Sprintf("put <script src=\"%s\"></script> into the page", h.Script)
					p.report(f)
					continue
				}
				p.mended(f, "pack plants it", fmt.Sprintf("put <script src=\"%s\"></script> into the page", h.Script))
			}
		},
	},
}
