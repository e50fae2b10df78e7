package check

import (
	"fmt"
	"path"
	"slices"
	"strings"

	"havvel/internal/export"
	"havvel/internal/finding"
	"havvel/internal/settings"
)

var leftoverChecks = []*Check{
	{
		ID:    "leftover-junk",
		Title: "Files that don't belong in a build",
		Level: finding.Warning,
		Text: "File managers, editors and version control leave files behind. In a build they take up space, tell strangers about the " +
			"developer's machine, and some portals refuse them. havvel pack leaves them out.",
		Before: ".DS_Store, notes.txt~",
		After:  "neither",
		Run: func(p *Pass) {
			for _, f := range p.Build.Files {
				if f.Junk != "" {
					p.fixed(
						finding.Finding{File: f.Path, Message: "it does not belong in a build: " + f.Junk},
						"leave-out",
						"pack leaves it out",
						"take it out",
					)
				}
			}
		},
	},
	{
		ID:    "leftover-map",
		Title: "Source maps are in the build",
		Level: finding.Warning,
		Text: "A source map holds the game's source text, with comments, to everybody who downloads it. Players don't need it, and it is " +
			"often larger than the " +
			"script. Turn source maps off for the release.",
		Before: "game.js, game.js.map",
		After:  "game.js",
		Run: eachEnding(
			"it is a source map: it shows the game's source text to everybody",
			"turn source maps off in the export settings, or take it out",
			".map",
		),
	},
	{
		ID:     "leftover-symbols",
		Title:  "Debug symbols are in the build",
		Level:  finding.Warning,
		Text:   "Debug symbols are for the developer's tools. Players download them for nothing, and strangers learn how the game is built.",
		Before: "game.symbols.json, game.pdb",
		After:  "neither",
		Run: eachEnding(
			"it is debug information that players don't need",
			"take it out, or export a release build",
			".pdb",
			".dwarf",
			".dsym",
			".symbols",
			".symbols.json",
			".debug.wasm",
			".wasm.debug",
			".sym",
			".ilk",
			".exp",
		),
	},
	{
		ID:     "leftover-log",
		Title:  "Logs and dumps are in the build",
		Level:  finding.Warning,
		Text:   "Logs and dumps of the export's tools hold paths and names of the developer's machine. Take them out.",
		Before: "build.log",
		After:  "no log",
		Run:    eachEnding("it is a log or dump of a tool", "take it out", ".log", ".dmp", ".stackdump"),
	},
	{
		ID:    "leftover-work",
		Title: "Working files are in the build",
		Level: finding.Warning,
		Text: "Files of painting, modelling and sound programs are what pictures and sounds are made from. The game doesn't load them, they " +
			"are large, and they " +
			"give the originals away.",
		Before: "lane.psd, lane.blend",
		After:  "lane.png",
		Run: eachEnding(
			"it is a working file, which the game doesn't load",
			"take it out",
			".psd",
			".xcf",
			".kra",
			".blend",
			".blend1",
			".ase",
			".clip",
			".scss",
			".less",
		),
	},
	{
		ID:    "leftover-secret",
		Title: "A secret is in the build",
		Level: finding.Error,
		Text: "A private key, or a file of settings with passwords, is in the build. Whatever is in the build can be read by everybody. " +
			"Take it out, and " +
			"replace the key: it is no secret any more if it was ever uploaded.",
		Before: ".env, id_rsa, server.key",
		After:  "none of them",
		Run: func(p *Pass) {
			for _, f := range p.Build.Files {
				if f.PrivateKey {
					p.report(
						finding.Finding{
							File:    f.Path,
							Message: "a private key stands in it; in a build everybody can read it",
							Fix:     "take the key out, and replace it wherever it is used",
						},
					)
					continue
				}
				base := strings.ToLower(path.Base(f.Path))
				if base == ".env" || strings.HasPrefix(base, ".env.") || base == "id_rsa" || base == "id_ed25519" || base == ".npmrc" ||
					base == ".netrc" ||
					base == ".htpasswd" ||
					hasAnySuffix(base, ".pem", ".p12", ".pfx", ".keystore", ".jks", ".ppk") {
					p.report(
						finding.Finding{
							File:    f.Path,
							Message: "it is a file in which keys or passwords are kept; in a build everybody can read it",
							Fix:     "take it out, and replace the keys in it",
						},
					)
				}
			}
		},
	},
	{
		ID:    "leftover-archive",
		Title: "An archive is in the build",
		Level: finding.Note,
		Text: "A zip inside the build is often an earlier build, or sources, put there by mistake. Some games do load one; if yours " +
			"doesn't, take it out.",
		Before: "old-build.zip",
		After:  "no archive",
		Run: func(p *Pass) {
			for _, f := range p.Build.Unlinked() {
				if f.Kind == export.KindArchive {
					p.report(
						finding.Finding{
							File:    f.Path,
							Message: fmt.Sprintf("it is an archive of %s, and nothing is known to load it", settings.Size(f.Bytes)),
							Fix:     "take it out if the game doesn't load it",
						},
					)
				}
			}
		},
	},
	{
		ID:    "leftover-unused",
		Title: "Files that nothing is known to load",
		Level: finding.Note,
		Text: "No page, stylesheet or script names these files, as far as can be read. The game may still load them by names that it puts " +
			"together, so havvel " +
			"never leaves them out by itself. If they are left from an earlier export, empty the folder before the next one.",
		Before: "lane-old.pack, 40 MB",
		After:  "no such file",
		Run: func(p *Pass) {
			if p.Build.Shape == export.SinglePage {
				return
			}
			for _, f := range p.Build.Unlinked() {
				if f.Kind != export.KindArchive && f.Bytes >= 100_000 && !hasAnySuffix(strings.ToLower(f.Path), ".map") {
					p.report(
						finding.Finding{
							File:    f.Path,
							Message: fmt.Sprintf("nothing is known to load it (%s)", settings.Size(f.Bytes)),
							Fix:     "take it out if it is left from an earlier export",
						},
					)
				}
			}
		},
	},
}

// eachEnding reports every file whose name ends in one of these.
func eachEnding(message, fix string, endings ...string) func(*Pass) {
	return func(p *Pass) {
		for _, f := range p.Build.Parts() {
			if hasAnySuffix(strings.ToLower(f.Path), endings...) {
				p.report(finding.Finding{File: f.Path, Message: message, Fix: fix})
			}
		}
	}
}

func hasAnySuffix(name string, endings ...string) bool {
	return slices.ContainsFunc(endings, func(e string) bool { return strings.HasSuffix(name, e) })
}
