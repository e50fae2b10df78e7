package listing

import (
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

// within reports what fits into a field, as the portal counts.
func within(limit int, counts string) func(string) bool {
	return func(s string) bool { return limit <= 0 || Count(s, counts) <= limit }
}
