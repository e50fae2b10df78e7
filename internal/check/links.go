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
		Text: "The page or a stylesheet names a file that the export doesn't hold. The host answers 404; a script that is " +
			"missing stops the game, a picture leaves a hole. Most often the file was renamed, or was left out of the " +
			"engine's export settings.",
		Before: `<script src="loader.js"> and no loader.js`,
		After:  `<script src="loader.js"> and loader.js beside the page`,
		Run: func(p *Pass) {
			eachLink(p, func(from *export.File, l web.Link, target string, where web.Where) {
				if where == web.Inside && p.Build.File(target) == nil && p.Build.FileInAnyCase(target) == nil {
					f := at(from, l)
					f.Message = fmt.Sprintf("%s is named here, but there is no such file", target)
					f.Fix = "put the file there, or take the link away"
					if !opens(p, from) || l.Use != "script" && l.Use != "style" {
						f.Level = Warning // the game starts without it
					}
					p.report(f)
				}
			})
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
			eachLink(p, func(from *export.File, l web.Link, target string, where web.Where) {
				other := p.Build.FileInAnyCase(target)
				if where == web.Inside && p.Build.File(target) == nil && other != nil {
					f := at(from, l)
					f.Message = fmt.Sprintf("%s is named here, but the file is called %s; a portal's host tells them apart", target, other.Path)
					f.Fix = "write the name the same way in both places"
					if l.Use == "page" || l.Use == "icon" || !opens(p, from) {
						f.Level = Warning
					}
					p.report(f)
				}
			})
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
			eachLink(p, func(from *export.File, l web.Link, target string, where web.Where) {
				if where == web.Absolute && l.Use != "page" && !isHook(p, l.Target) {
					f := at(from, l)
					f.Message = fmt.Sprintf("%s is looked for at the host's root, not in the game's folder", l.Target)
					f.Fix = "make it relative: set the base path to \"./\" in the engine's or bundler's export settings"
					p.report(f)
				}
			})
		},
	},
}

func at(f *export.File, l web.Link) Finding {
	return Finding{File: f.Path, Line: l.Line, Column: l.Column}
}

// eachLink calls visit for every link of the build's pages and stylesheets.
func eachLink(p *Pass, visit func(from *export.File, l web.Link, target string, where web.Where)) {
	for _, f := range p.Build.Parts() {
		base := ""
		if f.Page != nil {
			base = f.Page.Base
		}
		for _, l := range f.Links {
			target, where := web.Resolve(f.Path, base, l.Target)
			if l.Use == "page" && (target == "." || p.Build.File(target+"/"+export.EntryName) != nil) {
				continue // a folder, which a host answers with its entry page
			}
			visit(f, l, target, where)
		}
	}
}

// opens reports whether a file is part of what players open: the entry page, or a stylesheet.
func opens(p *Pass, f *export.File) bool { return f == p.Build.Entry || f.Page == nil }

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
