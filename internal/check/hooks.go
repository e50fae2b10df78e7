package check

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"havvel/internal/export"
	"havvel/internal/export/link"
	"havvel/internal/finding"
	"havvel/internal/hooks"
	"havvel/internal/rulebook"
)

var hookChecks = []*Check{
	{
		ID:    "hook-inferred",
		Title: "A call is made by what pack's adapter finds out",
		Level: finding.Note,
		Text: "The game doesn't say it, and havvel.toml has the adapter find it out while the game runs: loading is done when nothing " +
			"has come for a while and something is drawn, play begins with the first press after that, and stops when the game is " +
			"hidden, left or no longer in front; a value is sent when it changes. havvel trial shows when each was sent. Take one out of " +
			"the list where the guess is wrong.",
		Before: `[hooks] infer = ["loading-done", "play-begun"]`,
		After:  `window.dispatchEvent(new CustomEvent("game-event", { detail: { event: "play-begun" } }))`,
		Run: func(p *Pass) {
			if p.Rules == nil {
				return
			}
			for _, h := range p.Rules.Hooks {
				for _, c := range h.Calls {
					if !made(p.Build, c.Call) && h.Plant && p.Plants && p.Inferred.Has(c.Event) && !hooks.Sends(p.Build, c.Event) {
						p.report(finding.Finding{
							Message: fmt.Sprintf("%s is inferred: pack's adapter finds out %s, and makes the call", c.Call, c.Event),
							Fix:     "havvel trial shows when it comes; send the event in the game where it comes too early or too late",
						})
					}
				}
			}
		},
	},
	{
		ID:    "hook-absent",
		Title: "A script that the portal wants is not in the page",
		Level: finding.Error,
		Text: "The portal wants its own script in the entry page, and refuses a build without it or shows it without its leaderboards " +
			"and breaks. havvel pack plants the script where the rulebook says, unless the destination says plant = false.",
		Before: `<head><script src="game.js">`,
		After:  `<head><script src="/sdk/portal.js"></script><script src="game.js">`,
		Run: func(p *Pass) {
			eachHook(p, func(h rulebook.Hook, page *export.File) {
				if !h.Required || hooks.Present(page.Page, h) {
					return
				}
				f := finding.Finding{File: page.Path, Message: fmt.Sprintf("the %s (%s) is not in the page; it %s", h.Name, h.Script, h.Why)}
				if !h.Plant || !p.Plants {
					f.Fix = fmt.Sprintf("put <script src=\"%s\"></script> into the page", h.Script)
					p.report(f)
					return
				}
				p.fixed(f, "plant", "pack plants it", fmt.Sprintf("put <script src=\"%s\"></script> into the page", h.Script))
			})
		},
	},
	{
		ID:    "hook-twice",
		Title: "A portal's script is in the page twice",
		Level: finding.Warning,
		Text: "The page names the portal's script more than once. It then starts twice, and calls are counted twice or fail. Take one away; " +
			"havvel pack never " +
			"plants a script that is there already.",
		Before: `<script src="/sdk/portal.js"> in two places`,
		After:  `<script src="/sdk/portal.js"> once`,
		Run: func(p *Pass) {
			eachHook(p, func(h rulebook.Hook, page *export.File) {
				var places []link.Link
				for _, l := range page.Page.Links {
					if l.Use == "script" && l.Target == h.Script {
						places = append(places, l)
					}
				}
				if len(places) > 1 {
					p.report(
						finding.Finding{
							File:    page.Path,
							Line:    places[1].Line,
							Column:  places[1].Column,
							Message: fmt.Sprintf("the %s is in the page %d times", h.Name, len(places)),
							Fix:     "keep the first, and take the others away",
						},
					)
				}
			})
		},
	},
	{
		ID:    "hook-late",
		Title: "A portal's script comes after the game's own",
		Level: finding.Warning,
		Text: "The game's scripts run before the portal's script is there, so that its first calls fail. Put the portal's script before " +
			"all others.",
		Before: `<script src="game.js"></script><script src="/sdk/portal.js"></script>`,
		After:  `<script src="/sdk/portal.js"></script><script src="game.js"></script>`,
		Run: func(p *Pass) {
			eachHook(p, func(h rulebook.Hook, page *export.File) {
				if h.Place != "head-start" {
					return
				}
				for _, l := range page.Page.Links {
					if l.Use != "script" {
						continue
					}
					if l.Target == h.Script {
						return
					}
					if hooks.Present(page.Page, h) {
						p.report(
							finding.Finding{
								File:    page.Path,
								Line:    l.Line,
								Column:  l.Column,
								Message: fmt.Sprintf("%s runs before the %s", l.Target, h.Name),
								Fix:     "put the portal's script before all others",
							},
						)
					}
					return
				}
			})
		},
	},
	{
		ID:    "hook-uncalled",
		Title: "The game never makes a call that the portal wants",
		Level: finding.Error,
		Text: "The portal wants to hear certain things from the game: that it has loaded, that a level has begun, a score. No script of the " +
			"build makes the call, or sends its event, and no trial heard it. Where a script hands the portal's object on, so that its code " +
			"doesn't tell, this is a warning; havvel trial hears what the game calls, an engine's calls too. Without touching " +
			"the game, pack's adapter can find out some events by itself: infer under [hooks].",
		Before: "the portal's script in the page, and no call of Portal.ready",
		After:  "Portal.ready() when the game has loaded",
		Run: func(p *Pass) {
			if p.Rules == nil {
				return
			}
			var wanted []rulebook.Call
			for _, h := range p.Rules.Hooks {
				for _, c := range h.Calls {
					adapts := h.Plant && p.Plants || hooks.Adapted(p.Build)
					heard := made(p.Build, c.Call) || adapts && hooks.Sends(p.Build, c.Event) || slices.Contains(p.Heard, c.Call)
					if !heard && adapts && p.Inferred.Has(c.Event) {
						continue
					}
					if c.Required && !heard {
						wanted = append(wanted, c)
					}
				}
			}
			for _, c := range wanted {
				f := finding.Finding{
					Message: fmt.Sprintf("no script calls %s, which %s wants", c.Call, p.Rules.Name),
					Fix:     p.uncalled(c.Event, wanted),
				}
				if at, _, _ := hooks.Makes(p.Build, c.Call); at != nil {
					f.Level, f.File = finding.Warning, at.Path
					object, _, _ := strings.Cut(c.Call, ".")
					f.Message = fmt.Sprintf("can't tell whether the game calls %s, which %s wants: this file hands %s on to other code",
						c.Call, p.Rules.Name, object)
					f.Fix = "havvel hooks shows the line, and havvel trial hears whether the game makes the call"
				}
				p.report(f)
			}
		},
	},
}

// uncalled is what to do about an event that nobody sends, one of those that are wanted.
func (p *Pass) uncalled(event string, wanted []rulebook.Call) string {
	fix := fmt.Sprintf("call it in the game, or send the event %q, which havvel pack turns into the call (havvel hooks shows how)", event)
	const heard = "; if the engine makes the call, havvel trial hears it"
	if !slices.Contains(rulebook.Inferable(), event) {
		return fix + heard
	}
	var all []string // as one line that can be written
	for _, e := range rulebook.Inferable() {
		if p.Inferred.Has(e) || slices.ContainsFunc(wanted, func(c rulebook.Call) bool { return c.Event == e }) {
			all = append(all, strconv.Quote(e))
		}
	}
	const infer = "; or have pack's adapter find it out: infer = [%s] under [hooks] in havvel.toml"
	return fix + fmt.Sprintf(infer, strings.Join(all, ", ")) + heard
}

// eachHook calls visit for every hook of the rulebook, with the entry page.
func eachHook(p *Pass, visit func(h rulebook.Hook, page *export.File)) {
	if p.Rules == nil || p.Build.Entry == nil || p.Build.Entry.Page == nil {
		return
	}
	for _, h := range p.Rules.Hooks {
		visit(h, p.Build.Entry)
	}
}

// made reports whether a script of the build makes a call.
func made(b *export.Build, call string) bool {
	_, _, sure := hooks.Makes(b, call)
	return sure
}
