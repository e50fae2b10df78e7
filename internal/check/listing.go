package check

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"havvel/internal/finding"
	"havvel/internal/inwords"
	"havvel/internal/listing"
	"havvel/internal/pictures"
)

// PageFacts are the game's page at the destination, with what was found wrong when it was rendered and its pictures were cut.
type PageFacts struct {
	Texts     []listing.Problem
	Pictures  []pictures.Problem
	Declared  []string // declarations
	Begun     bool     // something of it was written
	Elsewhere []string // other destinations where the game is public
}

// projectFile is where the page is written.
const projectFile = "havvel.toml"

var listingChecks = []*Check{
	{
		ID:    string(listing.Missing),
		Title: "The page lacks something that the portal wants",
		Level: finding.Warning,
		Text: "A portal shows a game with its texts, and won't make it public, or shows it to nobody, while required ones are missing. " +
			"Write them once under [listing] in " +
			"havvel.toml; havvel renders them for each portal. It is a note as long as nothing is written for the page.",
		Before: "no tagline under [listing], for a portal that wants one",
		After:  `tagline = "Press a lantern, and its neighbours turn too."`,
		Run: func(p *Pass) {
			var lacks []string
			first := listing.Problem{}
			for _, t := range p.Page.Texts {
				if t.Kind == listing.Missing {
					lacks, first = append(lacks, strings.TrimPrefix(t.Message, "the page has no ")), cmp.Or(first, t)
				}
			}
			if !p.Page.Begun {
				p.unwritten(len(lacks))
				return
			}
			if len(lacks) == 0 {
				return
			}
			f := finding.Finding{
				File:    projectFile,
				Message: fmt.Sprintf("the page on %s still lacks: %s", p.Rules.Name, strings.Join(lacks, ", ")),
				Fix:     fmt.Sprintf("write them under [listing] in havvel.toml; havvel listing --show %s says what each can hold", p.Destination),
			}
			if len(lacks) == 1 {
				f.Line, f.Column, f.Fix = first.Line, min(1, first.Line), first.Fix
			}
			p.report(f)
		},
	},
	textCheck(
		listing.Short,
		"A text of the page is too short",
		finding.Warning,
		"The portal wants a text of some length, and refuses or hides a game whose text is shorter.",
		`a description of one sentence, where 80 characters are wanted`,
		`a paragraph on what one does in the game`,
	),
	textCheck(
		listing.Long,
		"A text of the page is too long",
		finding.Error,
		"The portal refuses the text, or cuts it off in the middle of a word. Lengths are counted as the portal counts them: an emoji is "+
			"one, two or more, as its rulebook says. Write a shorter text, for this portal alone if need be.",
		`a tagline of 140 characters, where 110 are the most`,
		`[to.NAME.listing] tagline = "…"`,
	),
	textCheck(
		listing.Shortened,
		"A text or list is cut",
		finding.Warning,
		"The text or list is longer than the portal takes, and havvel cuts it: at the end of a word, a paragraph, or a list.",
		`six tags, where five are taken`,
		`the five that matter, the most important first`,
	),
	textCheck(
		listing.Word,
		"A word is not on the portal's list",
		finding.Error,
		"Categories and tags are often chosen from a closed list. A word that is not on it is refused.",
		`category = "Puzzles"`,
		`category = "Puzzle"`,
	),
	textCheck(
		listing.Order,
		"The order of a list does not stay",
		finding.Note,
		"The portal sorts the list alphabetically and shows only the first words where players browse, so that the most important one may "+
			"not be seen.",
		`tags = ["puzzle", "lanterns", "logic", "night"], of which three are shown`,
		`tags without those that come before and matter less`,
	),
	textCheck(
		listing.Lost,
		"Something in a text has no place on the page",
		finding.Note,
		"HTML, pictures and links that don't lead to the web are left out of texts, since portals refuse them or they could do harm.",
		`<script> in description.md`,
		`the same text without it`,
	),
	textCheck(
		listing.Hidden,
		"A title or tagline holds characters that nobody sees",
		finding.Warning,
		"Controls of the writing direction and characters without a picture come along when a line is pasted. Portals refuse them, searches "+
			"don't find such a title, and letters behind them may stand in the wrong order.",
		`a title with U+202E in it`,
		`the same title, typed`,
	),
	textCheck(
		listing.Language,
		"The page is not in the portal's language",
		finding.Warning,
		"The portal shows its pages in one language, which its rulebook names, and the project has no texts in it, or not all.",
		`languages = ["en"], for a portal whose pages are in German`,
		`[listing.de], or description.de.md beside description.md`,
	),
	textCheck(
		listing.Untranslated,
		"A language of the game has no texts",
		finding.Note,
		"The portal takes texts in several languages, and the game speaks one in which its page says nothing, or lacks something.",
		`languages = ["en", "de"], and no text in German`,
		`[listing.de], or description.de.md beside description.md`,
	),
	textCheck(
		listing.NoLeaderboard,
		"A leaderboard doesn't fit the portal",
		finding.Error,
		"The portal keeps other values, has fewer leaderboards, or takes shorter labels. A leaderboard that is wrong once often stays "+
			"wrong, since it can be hidden but not deleted.",
		`keeps = "latest", where the portal keeps highest or lowest`,
		`keeps = "highest"`,
	),
	{
		ID:    string(listing.Undeclared),
		Title: "Something that the portal asks for is not declared",
		Level: finding.Warning,
		Text: "The portal wants declarations, such as that you hold the rights. Havvel never makes one for you: it is yours, and holds " +
			"for one version. They are checked once something is written for the page.",
		Before: "no [declarations] for this version",
		After:  `[declarations] version = "0.4.0", declare = ["own-rights"]`,
		Run: func(p *Pass) {
			var words []string
			first := listing.Problem{}
			for _, t := range p.Page.Texts {
				if t.Kind == listing.Undeclared {
					words, first = append(words, t.Message), cmp.Or(first, t)
				}
			}
			if len(words) > 0 && p.Page.Begun {
				p.report(
					finding.Finding{
						File:    projectFile,
						Line:    first.Line,
						Column:  min(1, first.Line),
						Message: fmt.Sprintf("%s asks for what is not declared: %s", p.Rules.Name, strings.Join(words, "; ")),
						Fix:     first.Fix,
					},
				)
			}
		},
	},
	textCheck(
		listing.Unknown,
		"A declaration is one that the portal does not ask for",
		finding.Warning,
		"A declaration for this portal alone has a name that its rulebook doesn't know; it is not sent.",
		`declare = ["rights"]`,
		`declare = ["own-rights"]`,
	),
	{
		ID:    "declaration-doubtful",
		Title: "A declaration doesn't match what is known",
		Level: finding.Warning,
		Text: "What is declared is compared with what is known: other hosts that the game's pages and scripts name, where no advertising " +
			"and no outside log-in are declared; the same game " +
			"public elsewhere, where it is said to be only here. A portal that finds out takes the game offline.",
		Before: `declare = ["only-here"], and the game is public on another portal`,
		After:  "the declaration removed, or the game taken offline there",
		Run: func(p *Pass) {
			declared := func(name string) bool { return slices.Contains(p.Page.Declared, name) }
			if declared("only-here") && len(p.Page.Elsewhere) > 0 {
				p.report(
					finding.Finding{
						File:    projectFile,
						Message: fmt.Sprintf("it is declared that the game is only here, and it is public on %s", strings.Join(p.Page.Elsewhere, " and ")),
						Fix:     "take only-here out of declare, or take the game off there",
					},
				)
			}
			for _, name := range []string{"no-advertising", "no-outside-login"} {
				if hosts := p.foreignHosts(); declared(name) && len(hosts) > 0 {
					p.report(
						finding.Finding{
							File:    projectFile,
							Message: fmt.Sprintf("%s is declared, and the game names other hosts: %s", name, strings.Join(hosts, ", ")),
							Fix:     "look at what it asks them for; take the declaration out if it is not so",
						},
					)
				}
			}
		},
	},
}

// unwritten notes that nothing of a page is written yet, and what it will want.
func (p *Pass) unwritten(fields int) {
	kinds, declared := 0, 0
	for _, x := range p.Page.Pictures {
		if x.Kind == pictures.Missing {
			kinds++
		}
	}
	for _, t := range p.Page.Texts {
		if t.Kind == listing.Undeclared {
			declared++
		}
	}
	var wants []string
	for _, w := range []struct {
		n         int
		one, many string
	}{{fields, "1 text or option", "%d texts or options"}, {kinds, "1 kind of picture", "%d kinds of pictures"},
		{declared, "1 declaration", "%d declarations"}} {
		if w.n == 1 {
			wants = append(wants, w.one)
		} else if w.n > 1 {
			wants = append(wants, fmt.Sprintf(w.many, w.n))
		}
	}
	if len(wants) == 0 {
		return
	}
	p.report(
		finding.Finding{
			Level:   finding.Note,
			File:    projectFile,
			Message: fmt.Sprintf("the page on %s is not written yet; it wants %s", p.Rules.Name, inwords.List(wants)),
			Fix:     fmt.Sprintf("havvel listing --show %s says what they are; havvel help toml listing, how they are written", p.Destination),
		},
	)
}

// textCheck is a check whose findings came up when the page was rendered.
func textCheck(k listing.Kind, title string, level finding.Level, text, before, after string) *Check {
	return &Check{ID: string(k), Title: title, Level: level, Text: text, Before: before, After: after, Run: func(p *Pass) {
		for _, t := range p.Page.Texts {
			if t.Kind == k {
				p.report(finding.Finding{File: projectFile, Line: t.Line, Column: min(1, t.Line), Message: t.Message, Fix: t.Fix})
			}
		}
	}}
}

var pictureChecks = []*Check{
	pictureCheck(
		pictures.Missing,
		"A picture is missing",
		finding.Warning,
		"The portal wants a picture of this kind. Name a master in havvel.toml, from which it is cut to size.",
		`no [[picture]] with the role "cover"`,
		`[[picture]] file = "page/cover.png", roles = ["cover"]`,
	),
	pictureCheck(
		pictures.Broken,
		"A master can't be used",
		finding.Error,
		"The file is not there, is broken, or is of a kind that can't be cut.",
		`file = "page/Cover.png", which is called cover.png`,
		`file = "page/cover.png"`,
	),
	pictureCheck(
		pictures.Small,
		"A picture was scaled up, or is not what was meant",
		finding.Warning,
		"The master has fewer pixels than the portal wants, so that the picture looks soft; or it is animated, and only its first picture "+
			"is taken.",
		"a master of 320x180 for a cover of 640x360",
		"a master of 1280x720",
	),
	pictureCheck(
		pictures.Heavy,
		"A picture is too heavy",
		finding.Error,
		"No quality that still looks good keeps within the portal's limit.",
		"a PNG of photographs, 2 MB, where 300 KB are taken",
		"a calmer picture, JPEG, or few_colours = true",
	),
	pictureCheck(
		pictures.Long,
		"A clip is too long",
		finding.Error,
		"It lasts longer than the portal takes. Havvel hands clips over as they are, and shortens none.",
		"a clip of 40 s, where 15 s are taken",
		"the best 15 s of it",
	),
	pictureCheck(
		pictures.Undrawn,
		"A clip that the browser can't show",
		finding.Warning,
		"Havvel has a browser draw what a clip shows first, and nothing came. The file is broken, or in a codec that this browser doesn't have.",
		"a film whose download broke off",
		"the whole film",
	),
	pictureCheck(
		pictures.Transparent,
		"Transparency is lost",
		finding.Warning,
		"The portal shows the picture without transparency, and what was see-through becomes black.",
		"a transparent icon on a portal that takes none",
		`surround = "#10131c"`,
	),
	pictureCheck(
		pictures.Dim,
		"Too little contrast at thumbnail size",
		finding.Warning,
		"Players choose by a thumbnail. A picture that is dark or flat all over says nothing at that size.",
		"a cover of a night without a light",
		"one bright thing that stands out",
	),
	pictureCheck(
		pictures.Cropped,
		"A crop takes away much of a picture, or its title",
		finding.Warning,
		"Portals want other shapes than the master has, and what doesn't fit is cut away around its focus. title, in hundredths, says where the "+
			"title stands, which must stay whole, and a twentieth away from the edges, where portals put badges and round corners.",
		`one wide master for a tall cover`,
		`a master for each shape, or focus = [50, 30]`,
	),
	pictureCheck(
		pictures.Colours,
		"The colours of a picture are a guess",
		finding.Warning,
		"Portals and browsers show pictures in sRGB. Havvel brings other colour spaces there, by the profile in the picture; this one has none "+
			"that can be read.",
		`a JPEG for printing without a profile`,
		`the same picture, saved in sRGB`,
	),
	pictureCheck(
		pictures.Moving,
		"An animated picture where a still one is wanted",
		finding.Warning,
		"Of an animation its first picture is taken, which may be an empty one.",
		`an animated GIF as cover`,
		`the picture that is meant, as PNG`,
	),
	pictureCheck(
		pictures.Seam,
		"A repeated picture shows its edges",
		finding.Warning,
		"A background that is repeated must go on at its right edge as it begins at its left, and below as above.",
		"a photograph as background",
		"a texture made to be repeated",
	),
	pictureCheck(
		pictures.Left,
		"Pictures are left out",
		finding.Note,
		"There are more pictures of a kind than the portal takes; the last ones are left out.",
		"nine screenshots, where six are taken",
		"the best first, or only = [\"NAME\"]",
	),
}

func pictureCheck(k pictures.Kind, title string, level finding.Level, text, before, after string) *Check {
	return &Check{ID: string(k), Title: title, Level: level, Text: text, Before: before, After: after, Run: func(p *Pass) {
		for _, x := range p.Page.Pictures {
			if x.Kind == k && (p.Page.Begun || k != pictures.Missing) {
				p.report(finding.Finding{File: cmp.Or(x.Master, projectFile), Message: x.Message, Fix: x.Fix})
			}
		}
	}}
}
