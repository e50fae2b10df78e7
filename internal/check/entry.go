package check

import (
	"fmt"
	"path"
	"strings"

	"havvel/internal/export"
	"havvel/internal/finding"
)

var entryChecks = []*Check{
	{
		ID:    "entry-none",
		Title: "There is no page to open",
		Level: finding.Error,
		Text: "A host opens one HTML page first. This export has none that runs a script, so players would see a list of " +
			"files or an error. Most often the wrong folder was named, or the engine exported for another system. " +
			"Export for the web again, and name the folder that holds the page.",
		Before: "scripts/game.js, media/lane.png",
		After:  "index.html, scripts/game.js, media/lane.png",
		Run: func(p *Pass) {
			if p.Build.Entry == nil {
				p.report(
					finding.Finding{
						Message: "there is no HTML page that a host could open",
						Fix:     "export for the web again, and name the folder that holds the page",
					},
				)
			}
		},
	},
	{
		ID:    "entry-nested",
		Title: "The entry page is not at the root",
		Level: finding.Error,
		Text: "A host looks for index.html at the root of what it was given. When the folder around the export was packed, " +
			"and not its contents, the page sits one folder deeper and the host doesn't find it. Pack the contents. " +
			"havvel pack does; files outside of the page's folder stay where they are, and its links lead to them.",
		Before: "web/index.html, web/game.js",
		After:  "index.html, game.js",
		Run:    entryNested,
	},
	{
		ID:    "entry-name",
		Title: "The entry page has another name than index.html",
		Level: finding.Error,
		Text: "Hosts open index.html, in small letters. A page under another name is not found, and players see an error or " +
			"a list of files. Set the name in the engine's export settings, or rename the page; havvel pack renames it in " +
			"the archive, and links from other pages follow.",
		Before: "tinderwick.html",
		After:  "index.html",
		Run:    entryName,
	},
}

func entryNested(p *Pass) {
	entry := p.Build.Entry
	if entry == nil || path.Dir(entry.Path) == "." {
		return
	}
	folder := path.Dir(entry.Path) + "/"
	f := finding.Finding{File: entry.Path, Message: fmt.Sprintf("the entry page is in the folder %s; a host looks for it at the root", folder)}
	if p.Build.Base == folder {
		p.fixed(f, "entry", "pack puts the contents of "+folder+" at the root", "pack the contents of "+folder+" without the folder around them")
		return
	}
	if entry.Page != nil && entry.Page.Base == "" {
		p.fixed(
			f,
			"entry",
			"pack puts the page at the root; the other files stay where they are",
			"put the page at the root, and make its links lead to the folder",
		)
		return
	}
	f.Fix = "move everything that the game needs into one folder with the page, and export or name that folder"
	if other := firstOutside(p.Build, folder); other != "" {
		f.Message += fmt.Sprintf(" (and not all files are in that folder: %s)", other)
	}
	p.report(f)
}

func firstOutside(b *export.Build, folder string) string {
	for _, f := range b.Parts() {
		if !strings.HasPrefix(f.Path, folder) {
			return f.Path
		}
	}
	return ""
}

func entryName(p *Pass) {
	entry := p.Build.Entry
	if entry == nil || path.Base(entry.Path) == export.EntryName {
		return
	}
	p.fixed(
		finding.Finding{
			File:    entry.Path,
			Message: fmt.Sprintf("the entry page is called %s; a host looks for %s", path.Base(entry.Path), export.EntryName),
		},
		"entry",
		"pack renames it to "+export.EntryName,
		"rename it to "+export.EntryName,
	)
}
