package check

import (
	"fmt"
	"path"
	"strings"

	"golang.org/x/text/unicode/norm"

	"havvel/internal/export"
	"havvel/internal/finding"
)

var nameChecks = []*Check{
	{
		ID:    "name-case-twice",
		Title: "Two names differ only in letter case",
		Level: finding.Warning,
		Text: "Lane.png and lane.png are two files on one system and one on another. Unpacked on a system that doesn't tell them apart, " +
			"the build loses one of them. Rename one of them.",
		Before: "Lane.png, lane.png",
		After:  "lane.png, lane-night.png",
		Run: func(p *Pass) {
			seen := map[string]*export.File{}
			for _, f := range p.Build.Parts() {
				low := strings.ToLower(norm.NFC.String(f.Path))
				if other := seen[low]; other != nil {
					p.report(
						finding.Finding{
							File:    f.Path,
							Message: fmt.Sprintf("this name and %s are the same on systems that don't tell letter case apart", other.Path),
							Fix:     "give one of them another name",
						},
					)
				}
				seen[low] = f
			}
		},
	},
	{
		ID:    "name-charset",
		Title: "The zip doesn't say how its names are written",
		Level: finding.Note,
		Text: "Some programs write names into a zip in the encoding of their own system, without saying which. Havvel guessed from the names " +
			"themselves. What unpacks the zip elsewhere may guess differently, and then links don't find their files. Havvel pack writes " +
			"UTF-8, and says so.",
		Before: "a zip with ランタン.json in Shift-JIS",
		After:  "the folder that the engine wrote, or a zip with names in UTF-8",
		Run: func(p *Pass) {
			if p.Build.Charset != "" {
				p.report(
					finding.Finding{
						Message: "the zip doesn't say how its names are written; they were read as " + p.Build.Charset,
						Fix:     "name the folder that the engine wrote instead of the zip, if names look wrong",
					},
				)
			}
		},
	},
	{
		ID:    "name-form",
		Title: "A name has accents as separate characters",
		Level: finding.Warning,
		Text: "An é can be one character, or an e with a separate accent behind it. They look the same, but a link that uses one form " +
			"does not find a file that uses the other. Names made on one system are often of the second form. Use plain letters in names.",
		Before: "café.png with an e and an accent behind it",
		After:  "cafe.png",
		Run: eachName(func(name string) (string, string) {
			if norm.NFC.String(name) != name {
				return "its name is written with accents apart from their letters, so a link may not find it", "use plain letters in the name"
			}
			return "", ""
		}),
	},
	{
		ID:    "name-letters",
		Title: "A name has letters that some hosts can't take",
		Level: finding.Note,
		Text: "Letters other than plain ones, digits, hyphen, underscore and dot are written differently in addresses, and some hosts " +
			"store them wrongly. Plain names are always safe.",
		Before: "night sky (1).png",
		After:  "night-sky-1.png",
		Run: eachName(func(name string) (string, string) {
			for _, c := range name {
				if c > 126 || strings.ContainsRune(" %&+,;=@$!'()[]{}^~`", c) {
					return fmt.Sprintf("its name has %q in it, which some hosts can't take", c), "use letters, digits, hyphens and dots"
				}
			}
			return "", ""
		}),
	},
	{
		ID:    "name-reserved",
		Title: "A name that can't be written on every system",
		Level: finding.Warning,
		Text: "Names such as con, aux or nul, names that end in a dot or a space, and the signs < > : \" | ? * and \\ can't be written on " +
			"some systems. Hosts and players that unpack the build there get an error, or another name.",
		Before: `aux.js, what?.png`,
		After:  "auxiliary.js, what.png",
		Run:    eachName(reserved),
	},
	{
		ID:    "name-long",
		Title: "A path that is too long for some systems",
		Level: finding.Warning,
		Text: "Some systems take paths of up to 260 letters, with the folders above the build counted in. A path of more than 200 letters " +
			"inside the build is likely to be cut or refused. Shorten the folders' names.",
		Before: "a path of 230 letters",
		After:  "a path of 60 letters",
		Run: func(p *Pass) {
			for _, f := range p.Build.Parts() {
				if n := len(p.Build.Inside(f)); n > 200 {
					p.report(
						finding.Finding{
							File:    f.Path,
							Message: fmt.Sprintf("its path has %d letters; more than 200 are too many for some systems", n),
							Fix:     "shorten the names of its folders",
						},
					)
				}
			}
		},
	},
}

// eachName looks at every part of every path once; look returns what is wrong with it, and the fix.
func eachName(look func(name string) (message, fix string)) func(*Pass) {
	return func(p *Pass) {
		told := map[string]bool{}
		for _, f := range p.Build.Parts() {
			at := f.Path
			for at != "." && at != "/" {
				if message, fix := look(path.Base(at)); message != "" && !told[at] {
					told[at] = true
					p.report(finding.Finding{File: at, Message: message, Fix: fix})
				}
				at = path.Dir(at)
			}
		}
	}
}

func reserved(name string) (string, string) {
	const fix = "give it another name"
	stem, _, _ := strings.Cut(strings.ToLower(name), ".")
	switch {
	case strings.ContainsAny(name, `<>:"|?*\`):
		return "its name has a sign in it that can't be written on every system", fix
	case strings.HasSuffix(name, ".") || strings.HasSuffix(name, " "):
		return "its name ends in a dot or a space, which some systems drop", fix
	case len(stem) == 3 && strings.Contains("con prn aux nul", stem),
		len(stem) == 4 && (strings.HasPrefix(stem, "com") || strings.HasPrefix(stem, "lpt")) && stem[3] >= '1' && stem[3] <= '9':
		return "its name is reserved on some systems and can't be written there", fix
	}
	return "", ""
}
