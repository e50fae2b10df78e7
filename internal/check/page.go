package check

import (
	"fmt"

	"havvel/internal/export"
	"havvel/internal/export/web"
	"havvel/internal/finding"
)

var pageChecks = []*Check{
	{
		ID:    "page-no-title",
		Title: "The entry page has no title",
		Level: finding.Warning,
		Text: "The browser's tab, bookmarks and shared links show the title; without one they show the address. Set the game's name in " +
			"the engine's export settings.",
		Before: "<head></head>",
		After:  "<head><title>Tinderwick Lane</title></head>",
		Run: onEntry(func(p *Pass, f *export.File) {
			if f.Page.Title == "" {
				p.report(
					finding.Finding{
						File:    f.Path,
						Message: "the page has no title; the browser's tab shows its address instead",
						Fix:     "set the game's name in the engine's export settings",
					},
				)
			}
		}),
	},
	{
		ID:     "page-no-icon",
		Title:  "The entry page names no icon",
		Level:  finding.Note,
		Text:   "Without an icon of its own the page asks the host for /favicon.ico, which leads to an error in the console on most portals.",
		Before: "<head> without a link to an icon",
		After:  `<link rel="icon" href="icon.png">`,
		Run: onEntry(func(p *Pass, f *export.File) {
			for _, l := range f.Page.Links {
				if l.Use == "icon" {
					return
				}
			}
			p.report(
				finding.Finding{
					File:    f.Path,
					Message: "the page names no icon, so the browser asks the host for /favicon.ico",
					Fix:     "set an icon in the engine's export settings",
				},
			)
		}),
	},
	{
		ID:    "page-no-viewport",
		Title: "The entry page is not made for phones",
		Level: finding.Warning,
		Text: "Without a viewport setting phones lay the page out as if they were 980 pixels wide and shrink it: the game is tiny, and " +
			"touches miss. " +
			"Add the setting to the page's template.",
		Before: "<head> without a viewport",
		After:  `<meta name="viewport" content="width=device-width, initial-scale=1">`,
		Run: onEntry(func(p *Pass, f *export.File) {
			if !f.Page.Viewport && !anyWord(p.Build, "viewport") {
				p.report(
					finding.Finding{
						File:    f.Path,
						Message: "the page has no viewport setting; on phones the game is tiny and touches miss",
						Fix:     `put <meta name="viewport" content="width=device-width, initial-scale=1"> into the page's head`,
					},
				)
			}
		}),
	},
	{
		ID:    "page-no-doctype",
		Title: "The entry page has no doctype",
		Level: finding.Warning,
		Text: "Without <!doctype html> at its very beginning browsers lay the page out as in the nineties: heights in percent don't work, " +
			"and the canvas " +
			"has the wrong size.",
		Before: "<html><head>",
		After:  "<!doctype html><html><head>",
		Run: onEntry(func(p *Pass, f *export.File) {
			if !f.Page.Doctype {
				p.report(
					finding.Finding{
						File:    f.Path,
						Line:    1,
						Column:  1,
						Message: "the page has no doctype; browsers lay it out by old rules, and heights in percent don't work",
						Fix:     "put <!doctype html> at the very beginning",
					},
				)
			}
		}),
	},
	{
		ID:     "page-no-charset",
		Title:  "The entry page does not name its character encoding",
		Level:  finding.Note,
		Text:   "Without a charset the browser guesses, and letters with accents can come out wrong, in the title and in texts of scripts.",
		Before: "<head> without a charset",
		After:  `<meta charset="utf-8">`,
		Run: onEntry(func(p *Pass, f *export.File) {
			if !f.Page.Charset {
				p.report(
					finding.Finding{
						File:    f.Path,
						Message: "the page does not say how its letters are written; those with accents may come out wrong",
						Fix:     `put <meta charset="utf-8"> into the page's head`,
					},
				)
			}
		}),
	},
	{
		ID:    "page-margin",
		Title: "The page has a margin around the game",
		Level: finding.Warning,
		Text: "Browsers give a page a margin of 8 pixels. In a portal's frame this is a white border, and a canvas that fills the window " +
			"then overflows it, " +
			"so that scrollbars show. Set the body's margin to 0.",
		Before: "no style for the body",
		After:  "body { margin: 0 }",
		Run: onEntry(func(p *Pass, f *export.File) {
			if f.Page.Canvas && !anyStyle(p.Build, func(s web.Style) bool { return s.NoMargin }) && !anyWord(p.Build, "margin") {
				p.report(
					finding.Finding{
						File:    f.Path,
						Message: "nothing sets the page's margin, so browsers put 8 pixels around the game",
						Fix:     "put body { margin: 0 } into the page's style",
					},
				)
			}
		}),
	},
	{
		ID:    "page-scrolls",
		Title: "The page can scroll",
		Level: finding.Note,
		Text: "When the game is a little larger than the frame, scrollbars show, and the arrow keys and touches scroll the page instead of " +
			"playing. Hide " +
			"what overflows, unless the page is meant to scroll.",
		Before: "no style for the body",
		After:  "body { overflow: hidden }",
		Run: onEntry(func(p *Pass, f *export.File) {
			if f.Page.Canvas && !anyStyle(p.Build, func(s web.Style) bool { return s.NoScroll }) && !anyWord(p.Build, "overflow") {
				p.report(
					finding.Finding{
						File:    f.Path,
						Message: "nothing keeps the page from scrolling when the game is larger than its frame",
						Fix:     "put body { overflow: hidden } into the page's style",
					},
				)
			}
		}),
	},
	{
		ID:    "page-canvas-large",
		Title: "The canvas is larger than the portal's frame",
		Level: finding.Warning,
		Text: "The page gives the canvas a size in pixels that is larger than the frame in which the portal shows the game. Unless a style " +
			"or script fits it " +
			"to the window, players see only a part of the game.",
		Before: `<canvas width="1920" height="1080"> in a frame of 960 by 540`,
		After:  "the same canvas with a style that fits it to the window",
		Run: onEntry(func(p *Pass, f *export.File) {
			if p.Rules == nil || f.Page.CanvasWidth == 0 {
				return
			}
			for _, v := range p.Rules.Views {
				if f.Page.CanvasWidth > v.Size[0] || f.Page.CanvasHeight > v.Size[1] {
					p.report(
						finding.Finding{
							File:  f.Path,
							Level: finding.Note,
							Message: fmt.Sprintf(
								"the canvas is %d by %d pixels, and %s shows the game in %d by %d",
								f.Page.CanvasWidth,
								f.Page.CanvasHeight,
								p.Rules.Name,
								v.Size[0],
								v.Size[1],
							),
							Fix: "havvel trial sees whether the game fits; canvas = \"fit\" under [front] in havvel.toml fixes it if not",
						},
					)
					return
				}
			}
		}),
	},
	{
		ID:    "page-keys-scroll",
		Title: "Nothing keeps the arrow keys from scrolling",
		Level: finding.Note,
		Text: "The arrow keys and the space bar scroll a page unless the game tells the browser that it has used them. On a portal the page " +
			"around the game " +
			"then moves during play. Engines do this by themselves; hand-written games must call preventDefault.",
		Before: "a key handler without preventDefault",
		After:  "event.preventDefault() for the keys that the game uses",
		Run: onEntry(func(p *Pass, f *export.File) {
			if f.Page.Canvas && !anyWord(p.Build, "preventDefault") && hasScripts(p.Build) {
				p.report(
					finding.Finding{
						File:    f.Path,
						Message: "no script keeps the arrow keys and the space bar from scrolling the page around the game",
						Fix:     "call preventDefault for the keys that the game uses",
					},
				)
			}
		}),
	},
	{
		ID:    "page-context-menu",
		Title: "A right click opens the browser's menu",
		Level: finding.Note,
		Text: "On a canvas the browser's menu for pictures opens at a right click, and on phones at a long touch, in the middle of the " +
			"game. Games that use either " +
			"stop it with a contextmenu handler; engines mostly do.",
		Before: "no handler",
		After:  `canvas.addEventListener("contextmenu", (e) => e.preventDefault())`,
		Run: onEntry(func(p *Pass, f *export.File) {
			if f.Page.Canvas && !anyWord(p.Build, "contextmenu") && !anyWord(p.Build, "oncontextmenu") && hasScripts(p.Build) {
				p.report(
					finding.Finding{
						File:    f.Path,
						Message: "nothing keeps the browser's menu from opening at a right click or a long touch",
						Fix:     "stop the contextmenu event if the game uses right clicks or long touches",
					},
				)
			}
		}),
	},
	{
		ID:    "page-frame-full",
		Title: "A frame in the page can't show the full screen",
		Level: finding.Warning,
		Text: "The entry page shows the game in a frame of its own that is not allowed to use the full screen, so the game's full-screen " +
			"button does nothing, " +
			"whatever the portal allows. Give the frame the permission, or show the game without it.",
		Before: `<iframe src="game.html">`,
		After:  `<iframe src="game.html" allow="fullscreen">`,
		Run: onEntry(func(p *Pass, f *export.File) {
			for _, frame := range f.Page.Frames {
				if !frame.FullScreen && frame.Source != "" {
					p.report(
						finding.Finding{
							File:    f.Path,
							Message: fmt.Sprintf("the frame with %s may not use the full screen", withoutQuery(frame.Source)),
							Fix:     `add allow="fullscreen" to the frame`,
						},
					)
				}
			}
		}),
	},
}

// onEntry runs a check on the entry page, when there is one that could be read.
func onEntry(run func(p *Pass, f *export.File)) func(*Pass) {
	return func(p *Pass) {
		if f := p.Build.Entry; f != nil && f.Page != nil {
			run(p, f)
		}
	}
}

func anyStyle(b *export.Build, is func(web.Style) bool) bool {
	for _, f := range b.Parts() {
		if f.Style != nil && is(*f.Style) || f.Page != nil && is(f.Page.Style) {
			return true
		}
	}
	return false
}

// anyWord reports whether a script of the build uses a word.
func anyWord(b *export.Build, word string) bool {
	for _, s := range scriptsOf(b) {
		if s.Words[word] {
			return true
		}
	}
	return false
}

// hasScripts reports whether all scripts of the build could be read, and there is one.
func hasScripts(b *export.Build) bool {
	n := 0
	for _, f := range b.Parts() {
		if f.Kind == export.KindScript && f.Script == nil {
			return false
		}
		if f.Script != nil || f.Page != nil && f.Page.Scripts > 0 {
			n++
		}
	}
	return n > 0
}
