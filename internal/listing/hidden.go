package listing

import (
	"fmt"
	"slices"
	"unicode"
)

// hidden says so where a line of a page holds characters that nobody sees, or that turn the letters behind them round.
func (page *Page) hidden(key, text string) {
	for place, r := range []rune(text) {
		if what := unseen([]rune(text), place); what != "" {
			page.say(Hidden, key, fmt.Sprintf("%s holds %s (U+%04X) as its character %d", key, what, r, place+1),
				"type the line again, without pasting it; portals refuse such a title, or show it in disorder")
			return
		}
	}
}

// unseen names a character that nobody sees; "" for one that is seen, or that joins or parts letters of a script that needs it.
func unseen(text []rune, at int) string {
	switch r := text[at]; {
	case unicode.Is(directions, r):
		return "a control of the writing direction"
	case r == 0x200c || r == 0x200d: // between letters of some scripts, and between emoji
		if at > 0 && at+1 < len(text) && text[at-1] > 0x2ff && text[at+1] > 0x2ff {
			return ""
		}
		return "a joiner that joins nothing"
	case r >= 0xe0020 && r <= 0xe007f: // of a flag
		if slices.Contains(text[:at], 0x1f3f4) {
			return ""
		}
		return "an invisible character"
	case unicode.Is(invisible, r):
		return "an invisible character"
	case unicode.IsControl(r):
		return "a control character"
	}
	return ""
}

// Characters that say which way text runs, and those that show nothing.
var (
	directions = &unicode.RangeTable{R16: []unicode.Range16{
		{Lo: 0x61c, Hi: 0x61c, Stride: 1}, {Lo: 0x200e, Hi: 0x200f, Stride: 1}, {Lo: 0x202a, Hi: 0x202e, Stride: 1},
		{Lo: 0x2066, Hi: 0x2069, Stride: 1},
	}}
	invisible = &unicode.RangeTable{
		R16: []unicode.Range16{
			{Lo: 0xad, Hi: 0xad, Stride: 1}, {Lo: 0x115f, Hi: 0x1160, Stride: 1}, {Lo: 0x180e, Hi: 0x180e, Stride: 1},
			{Lo: 0x200b, Hi: 0x200b, Stride: 1}, {Lo: 0x2028, Hi: 0x2029, Stride: 1}, {Lo: 0x2060, Hi: 0x2064, Stride: 1},
			{Lo: 0x3164, Hi: 0x3164, Stride: 1}, {Lo: 0xfeff, Hi: 0xfeff, Stride: 1}, {Lo: 0xffa0, Hi: 0xffa0, Stride: 1},
		},
		R32:         []unicode.Range32{{Lo: 0xe0001, Hi: 0xe0001, Stride: 1}},
		LatinOffset: 1,
	}
)
