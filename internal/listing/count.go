package listing

import (
	"strings"
	"unicode/utf16"
	"unicode/utf8"

	"github.com/clipperhouse/uax29/v2/graphemes"
)

// Count is a text's length, as a portal counts it: "points" (code points of Unicode), "units" (of UTF-16), "letters" (grapheme
// clusters, UAX 29) or "bytes" (of UTF-8).
func Count(s, counts string) int {
	switch counts {
	case "bytes":
		return len(s)
	case "units":
		return len(utf16.Encode([]rune(s)))
	case "letters":
		n := 0
		for g := graphemes.FromString(s); g.Next(); {
			n++
		}
		return n
	}
	return utf8.RuneCountInString(s)
}

// cut shortens a text to a limit, at the end of a word where one is near. Nothing that people see as one letter is torn apart.
func cut(s string, limit int, counts string) string {
	if limit <= 0 || Count(s, counts) <= limit {
		return s
	}
	room := limit - Count("…", counts)
	end, taken, word := 0, 0, 0
	for g := graphemes.FromString(s); g.Next(); {
		if taken += Count(g.Value(), counts); taken > room {
			break
		}
		if strings.TrimSpace(g.Value()) == "" {
			word = end
		}
		end += len(g.Value())
	}
	if word > end/2 {
		end = word
	}
	if room < 0 || end == 0 {
		return ""
	}
	return strings.TrimRight(s[:end], " \n\t,;:–—-") + "…"
}

// cutBlocks takes as many blocks as a limit allows; a text without markup is cut within a block.
func cutBlocks(blocks []string, f form, limit int, counts string) string {
	whole := strings.Join(blocks, f.between())
	if limit <= 0 || Count(whole, counts) <= limit {
		return whole
	}
	if _, bare := f.(plain); bare {
		return cut(whole, limit, counts)
	}
	taken, gap := 0, Count(f.between(), counts)
	for i, b := range blocks {
		n := Count(b, counts)
		if i > 0 {
			n += gap
		}
		if taken += n; taken > limit {
			return strings.Join(blocks[:i], f.between())
		}
	}
	return whole
}
