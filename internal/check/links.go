package check

import (
	"fmt"

	"havvel/internal/export"
	"havvel/internal/export/web"
)

var linkChecks = []*Check{
	{
		ID:    "link-missing",
		Title: "A link leads to a file that isn't there",
		Level: Error,
		Text: "A page, stylesheet or script names a file that the export doesn't hold. The host answers 404; a script that is " +
			"missing stops the game, a picture leaves a hole. Most often the file was renamed, or was left out of the " +
			"engine's export settings. It is an error where the game can't start without the file: for scripts and stylesheets " +
			"of the entry page, and for imports.",
		Before: `<script src="loader.js"> and no loader.js`,
		After:  `<script src="loader.js"> and loader.js beside the page`,
		Run: func(p *Pass) {
			for _, l := range p.Build.Links {
				if l.Result != export.Missing {
					continue
				}
				f := at(l)
				f.Message = fmt.Sprintf("%s is named here, but there is no such file", l.Path)
				f.Fix = "put the file there, or take the link away"
				if !opens(p, l) || l.Use != "script" && l.Use != "style" || l.Certainty != web.Certain {
					f.Level = Warning // the game may start without it
				}
				p.report(f)
			}
		},
	},
	{
		ID:    "link-case",
		Title: "A link differs from its file in letter case",
		Level: Error,
		Text: "On the developer's disk Lane.png and lane.png are often the same file; on a portal's host they are two, and the " +
			"link leads nowhere. The game works here and breaks there. Write the name the same way in both places.",
		Before: `url("Media/Lane.png") and media/lane.png`,
		After:  `url("media/lane.png")`,
		Run: func(p *Pass) {
			for _, l := range p.Build.Links {
				if l.Result != export.OtherCase {
					continue
				}
				f := at(l)
				f.Message = fmt.Sprintf("%s is named here, but the file is called %s; a portal's host tells them apart", l.Path, l.To.Path)
				f.Fix = "write the name the same way in both places"
				if l.Use == "page" || l.Use == "icon" || !opens(p, l) || l.Certainty == web.Possible {
					f.Level = Warning
				}
				p.report(f)
			}
		},
	},
	{
		ID:    "link-absolute",
		Title: "A link starts at the host's root",
		Level: Warning,
		Text: "An address that starts with a slash is looked for at the root of the host. Portals serve each game from a folder of " +
			"its own, so the file is not found there. Use addresses relative to the page; most engines and bundlers have a " +
			"setting for the base path, which should be empty or \"./\".",
		Before: `<script src="/game.js">`,
		After:  `<script src="game.js">`,
		Run: func(p *Pass) {
			for _, l := range p.Build.Links {
				if l.Result == export.Absolute && l.Use != "page" && !isHook(p, l.Target) {
					f := at(l)
					f.Message = fmt.Sprintf("%s is looked for at the host's root, not in the game's folder", l.Target)
					f.Fix = "make it relative: set the base path to \"./\" in the engine's or bundler's export settings"
					p.report(f)
				}
			}
		},
	},
}

// at is the place of a link.
func at(l export.Link) Finding {
	return Finding{File: l.From.Path, Line: l.Line, Column: l.Column}
}

func isHook(p *Pass, address string) bool {
	if p.Rules == nil {
		return false
	}
	for _, h := range p.Rules.Hooks {
		if h.Script == address {
			return true
		}
	}
	return false
}

// opens reports whether a link stands in what players open: the entry page, or what is no page.
func opens(p *Pass, l export.Link) bool { return l.From == p.Build.Entry || l.From.Page == nil }
