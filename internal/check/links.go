package check

import (
	"fmt"
	"net/url"
	"slices"
	"strings"

	"havvel/internal/export"
	"havvel/internal/export/link"
	"havvel/internal/export/script"
	"havvel/internal/export/web"
	"havvel/internal/finding"
)

// withoutIt is how bad it is that the file of a link doesn't come: as bad as the check says, "", where the game can't start without it.
func withoutIt(p *Pass, l export.Link) finding.Level {
	switch reach := p.Build.Reach(l.From); {
	case reach == export.Unreached || reach == export.Perhaps && !l.Certainty.Sure(): // what nothing is sure to use can't stop the game
		return finding.Note
	case reach < export.AtStart || l.Use != "script" && l.Use != "style" || !l.Certainty.Sure():
		return finding.Warning // the game may start without it
	}
	return ""
}

var linkChecks = []*Check{
	{
		ID:    "link-missing",
		Title: "A link leads to a file that isn't there",
		Level: finding.Error,
		Text: "A page, stylesheet or script names a file that the export doesn't hold. The host answers 404; a script that is " +
			"missing stops the game, a picture leaves a hole. Most often the file was renamed, or was left out of the " +
			"engine's export settings. It is an error where the game can't start without the file: for scripts and stylesheets " +
			"of the entry page, and for imports.",
		Before: `<script src="loader.js"> and no loader.js`,
		After:  `<script src="loader.js"> and loader.js beside the page`,
		Run: onLinks(func(p *Pass, l export.Link) *finding.Finding {
			if l.Result != export.Missing || strings.HasPrefix(l.Path, "../") {
				return nil
			}
			f := &finding.Finding{
				Message: fmt.Sprintf("%s is named here, but there is no such file", l.Path),
				Fix:     "put the file there, or take the link away",
			}
			if l.Certainty == link.Seen {
				f.Message = fmt.Sprintf("%s is asked for here, as the last trial saw, but there is no such file", l.Path)
			}
			f.Level = withoutIt(p, l)
			return f
		}),
	},
	{
		ID:    "link-percent",
		Title: "An address has a bare percent sign",
		Level: finding.Error,
		Text: "In an address, a percent sign begins the code of a character: %25 is the sign itself. Browsers ask for a bare one as it " +
			"stands. Some hosts find the file all the same; others answer 400, and the file is missing there alone. Rename the file.",
		Before: `<img src="50%.png">`,
		After:  `<img src="half.png">`,
		Run: onLinks(func(p *Pass, l export.Link) *finding.Finding {
			if l.Result != export.Found || !web.Bare(l.Target) {
				return nil
			}
			return &finding.Finding{
				Message: fmt.Sprintf("the percent sign in %s begins no code, and many hosts refuse such an address", l.Target),
				Fix:     "rename the file without it; or write %25 for the sign",
				Level:   withoutIt(p, l),
			}
		}),
	},
	{
		ID:    "link-case",
		Title: "A link differs from its file in letter case",
		Level: finding.Error,
		Text: "On the developer's disk Lane.png and lane.png are often the same file; on a portal's host they are two, and the " +
			"link leads nowhere. The game works here and breaks there. Write the name the same way in both places.",
		Before: `url("Media/Lane.png") and media/lane.png`,
		After:  `url("media/lane.png")`,
		Run: onLinks(func(p *Pass, l export.Link) *finding.Finding {
			if l.Result != export.OtherCase {
				return nil
			}
			f := &finding.Finding{
				Message: fmt.Sprintf("%s is named here, but the file is called %s; a portal's host tells them apart", l.Path, l.To.Path),
				Fix:     "write the name the same way in both places",
			}
			if !strings.EqualFold(l.Path, l.To.Path) {
				f.Message = fmt.Sprintf(
					"%s is named here, but the file's name is written with accents apart from their letters; a portal's host tells them apart",
					l.Path,
				)
			}
			if l.Use == "page" || l.Use == "icon" || !opens(p, l) || l.Certainty == link.Possible {
				f.Level = finding.Warning
			}
			if _, _, ok := p.Build.Rewritten(l, l.To.Path); ok {
				p.fixed(at(l, *f), "names", "pack makes the link lead to the file", "write the name the same way in both places")
				return nil
			}
			return f
		}),
	},
	{
		ID:    "link-integrity",
		Title: "A file is not the one whose hash the page gives",
		Level: finding.Error,
		Text: "With integrity=\"sha384-…\" a page says which hash a script or stylesheet has. Browsers refuse a file with any other: a single " +
			"changed byte, or line ends that another tool wrote, and the game does not start. What havvel pack changes gets its new hash.",
		Before: `<script src="game.js" integrity="sha384-…"> and a game.js that was changed after it`,
		After:  `both as the bundler wrote them, or no integrity`,
		Run: onLinks(func(p *Pass, l export.Link) *finding.Finding {
			if l.Integrity == "" || l.To == nil || l.To.Encoding != "" {
				return nil
			}
			if ok, err := link.Fits(l.Integrity, l.To.Open); ok || err != nil { // what can't be read is said elsewhere
				return nil
			}
			f := &finding.Finding{
				Message: fmt.Sprintf("%s has another hash than the page says (integrity), so browsers refuse it", l.Path),
				Fix:     "export again, or take the integrity attribute away",
			}
			if !opens(p, l) || l.To.Script == nil && l.Use != "style" {
				f.Level = finding.Warning // what is only fetched ahead is fetched again
			}
			return f
		}),
	},
	{
		ID:    "link-package",
		Title: "A script imports a package by its name",
		Level: finding.Error,
		Text: "Browsers load scripts by address, such as \"./rules.js\"; a name alone, such as \"lantern-kit\", means something to tools on " +
			"the developer's machine only. The browser stops at such an import before the game's first line. A folder with such " +
			"scripts is what the game is made from: the export is what the bundler writes. Where there is no bundler, an import map " +
			"in the page says what the name stands for.",
		Before: `import { lamp } from "lantern-kit"`,
		After:  `import { lamp } from "./lantern-kit.js"`,
		Run:    findPackages,
	},
	{
		ID:    "link-absolute",
		Title: "A link starts at the host's root",
		Level: finding.Warning,
		Text: "An address that starts with a slash is looked for at the root of the host. Portals serve each game from a folder of " +
			"its own, so the file is not found there. Use addresses relative to the page; most engines and bundlers have a " +
			"setting for the base path, which should be empty or \"./\".",
		Before: `<script src="/game.js">`,
		After:  `<script src="game.js">`,
		Run:    findAbsolute,
	},
	{
		ID:    "link-escapes",
		Title: "A link leads out of the build",
		Level: finding.Warning,
		Text: "An address that begins with ../ leads above the folder that the host serves the game from, where none of its files are. " +
			"Most often the page was moved after the export. Export again, with everything below the page's folder.",
		Before: `<script src="../game.js"> in the entry page`,
		After:  `<script src="game.js">`,
		Run: onLinks(func(_ *Pass, l export.Link) *finding.Finding {
			if !strings.HasPrefix(l.Path, "../") || l.Use == "page" {
				return nil
			}
			return &finding.Finding{
				Message: fmt.Sprintf("%s leads out of the build, to where none of its files are", readable(l)),
				Fix:     "put the file into the build, and make the link lead there",
			}
		}),
	},
	{
		ID:    "link-disk",
		Title: "A link leads to a disk",
		Level: finding.Error,
		Text: "An address such as file:///C:/game/lane.png leads to the developer's own disk. It works there and nowhere else. Use an " +
			"address relative to the page.",
		Before: `<img src="file:///C:/art/lane.png">`,
		After:  `<img src="art/lane.png">`,
		Run: onLinks(func(_ *Pass, l export.Link) *finding.Finding {
			low := strings.ToLower(l.Target)
			if !strings.HasPrefix(low, "file:") && (len(low) < 3 || low[1] != ':' || !strings.ContainsAny(low[2:3], `/\`)) {
				return nil
			}
			return &finding.Finding{
				Message: fmt.Sprintf("%s leads to the disk of the machine that the game was made on", l.Target),
				Fix:     "use an address relative to the page",
			}
		}),
	},
	{
		ID:    "link-foreign",
		Title: "The game loads something from another host",
		Level: finding.Warning,
		Text: "What is loaded from another host is not checked by the portal, can vanish or change, tells that host who plays, and does not " +
			"work offline. Many portals forbid it, but for the hosts that their rulebook names. Put the file into the build.",
		Before: `<script src="https://scripts.example/lib.js">`,
		After:  `<script src="lib.js">`,
		Run: onLinks(func(p *Pass, l export.Link) *finding.Finding {
			if !foreign(p, l) {
				return nil
			}
			at := withoutQuery(readable(l))
			if l.Use == "socket" {
				return &finding.Finding{
					Message: fmt.Sprintf("the game talks to %s, a server that the portal doesn't know", at),
					Fix:     "ask the portal whether it lets games do that; the game must also run when nothing answers there",
				}
			}
			return &finding.Finding{
				Message: at + " is loaded from another host",
				Fix:     "put the file into the build",
			}
		}),
	},
	{
		ID:    "link-insecure",
		Title: "The game loads something without encryption",
		Level: finding.Error,
		Text: "Portals are served over https, and from there browsers load no script, style, data or frame over plain http: they block " +
			"it, and the game stops or is broken. Pictures and sounds are asked for over https instead, which may fail.",
		Before: `<script src="http://scripts.example/lib.js">`,
		After:  `<script src="lib.js">`,
		Run: onLinks(func(p *Pass, l export.Link) *finding.Finding {
			if l.Result != export.Insecure || l.Use == "page" || strings.HasPrefix(l.Target, "http://localhost") ||
				strings.HasPrefix(l.Target, "http://127.") {
				return nil
			}
			f := &finding.Finding{
				Message: fmt.Sprintf("%s is loaded without encryption; browsers block that on a page served over https", withoutQuery(l.Target)),
				Fix:     "put the file into the build, or use https",
			}
			if !opens(p, l) || l.Use == "picture" || l.Use == "media" || l.Use == "icon" || l.Certainty != link.Certain {
				f.Level = finding.Warning
			}
			return f
		}),
	},
	{
		ID:    "link-unread",
		Title: "A script can't be read in full",
		Level: finding.Note,
		Text: "Havvel follows the names of files through a script's code. A script with a syntax error, or one that is very large, is " +
			"searched for names as plain text instead: a name that it puts together while it runs can be missed, and a missing file " +
			"with it. A browser doesn't run a script with a syntax error at all. havvel trial runs the game and sees what it asks for.",
		Before: `play(] // a syntax error`,
		After:  `play()`,
		Run: func(p *Pass) {
			for _, f := range p.Build.Unparsed() {
				p.report(finding.Finding{
					File:    f.Path,
					Message: "its code can't be followed (" + f.WhyUnparsed() + "), so file names that it puts together can be missed",
					Fix:     "run havvel trial; it sees every file that the game asks for",
				})
			}
		},
	},
}

const basePath = "make it relative: set the base path to \"./\" in the engine's or bundler's export settings"

// findAbsolute reports links from the host's root.
func findAbsolute(p *Pass) { onLinks(absolute)(p) }

// absolute is the finding for a link from the host's root; nil where pack fixes it, or it is none.
func absolute(p *Pass, l export.Link) *finding.Finding {
	if l.Result != export.Absolute || isHook(p, l.Target) || l.Use == "page" && l.From.Page != nil {
		return nil
	}
	_, reason, found := p.Build.FromRoot(l)
	f := &finding.Finding{Message: fmt.Sprintf("%s is looked for at the host's root, not in the game's folder", readable(l)), Fix: basePath}
	if l.From.Kind == export.KindText {
		f.Fix = "take the slash at its beginning away"
	}
	reach, possible := p.Build.Reach(l.From), l.Certainty == link.Possible
	switch {
	case !found && (possible || reach == export.Unreached):
		return nil
	case found && reason == "", l.From.BasedAtRoot() && !strings.HasPrefix(l.Target, "/"):
		p.fixed(at(l, *f), "names", "pack makes the link relative", basePath)
		return nil
	}
	if found && !possible && reach >= export.Loaded {
		f.Level, f.Message = finding.Error, f.Message+"; pack can't make it relative, since "+reason
	}
	return f
}

// readable is what a link names, for people: parts that the script puts in while it runs are dots.
func readable(l export.Link) string { return strings.ReplaceAll(l.Target, "*", "…") }

// findPackages reports imports by name in the scripts that the entry page is sure to run.
func findPackages(p *Pass) {
	entry := p.Build.Entry
	if entry == nil {
		return
	}
	judge := func(from *export.File, s *script.Script) {
		for _, l := range s.Bare {
			if _, ok := p.Build.Mapped(from, l.Target, export.Runner{File: entry}); ok ||
				l.Certainty != link.Certain { // import(…) may never be reached
				continue
			}
			f := finding.Finding{
				Message: fmt.Sprintf(
					"%q is imported by its name alone, which browsers don't know; they stop here before the game's first line",
					l.Target,
				),
				Fix: "take what your bundler writes as the export, or say in an import map what the name stands for",
			}
			p.report(at(export.Link{Link: l, From: from}, f))
		}
	}
	judge(entry, entry.Page.Inline)
	for _, f := range p.Build.Modules() {
		judge(f, f.Script)
	}
}

// onLinks runs a check on every link of the build; judge returns what is wrong with one, or nil.
func onLinks(judge func(p *Pass, l export.Link) *finding.Finding) func(*Pass) {
	return func(p *Pass) {
		for _, l := range p.Build.Links {
			if f := judge(p, l); f != nil {
				p.report(at(l, *f))
			}
		}
	}
}

// foreign reports whether a link loads something from another host, of which the rulebook says nothing.
func foreign(p *Pass, l export.Link) bool {
	loads := l.Use != "page" && (l.From.Page != nil || l.Certainty != link.Possible)
	return (l.Result == export.OtherOrigin || l.Result == export.Insecure) && loads && !p.policy().Allows(l.Target) && !isHook(p, l.Target)
}

// foreignHosts lists the hosts that the game loads from.
func (p *Pass) foreignHosts() []string {
	if p.Build == nil {
		return nil
	}
	var list []string
	for _, l := range p.Build.Links {
		if u, err := url.Parse(l.Target); err == nil && foreign(p, l) && u.Host != "" && !slices.Contains(list, u.Host) {
			list = append(list, u.Host)
		}
	}
	return list
}

// withoutQuery shortens an address to what names the file; the query may hold a key.
func withoutQuery(address string) string {
	address, _, _ = strings.Cut(address, "?")
	return address
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

// at puts a finding at the link's place.
func at(l export.Link, f finding.Finding) finding.Finding {
	f.File, f.Line, f.Column = l.From.Path, l.Line, l.Column
	return f
}
