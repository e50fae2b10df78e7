package listing

import (
	"fmt"
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
	case r >= 0x202a && r <= 0x202e, r >= 0x2066 && r <= 0x2069, r == 0x200e, r == 0x200f, r == 0x61c:
		return "a control of the writing direction"
	case r == 0x200c || r == 0x200d: // between letters of some scripts, and between emoji
		if at > 0 && at+1 < len(text) && text[at-1] > 0x2ff && text[at+1] > 0x2ff {
			return ""
		}
		return "a joiner that joins nothing"
	case r >= 0xe0020 && r <= 0xe007f: // of a flag
		for i := at; i >= 0; i-- {
			if text[i] == 0x1f3f4 {
				return ""
			}
		}
		return "an invisible character"
	case r == 0xad, r == 0x200b, r >= 0x2060 && r <= 0x2064, r == 0xfeff, r == 0x180e, r == 0x115f, r == 0x1160, r == 0x3164, r == 0xffa0,
		r == 0xe0001, r == 0x2028, r == 0x2029:
		return "an invisible character"
	case r == '\n', r == '\t', unicode.IsControl(r):
		return "a control character"
	}
	return ""
}
