package prose

import "golang.org/x/text/unicode/bidi"

// rightToLeft reports whether some letter of a text is of a script that is written from right to left.
func rightToLeft(s string) bool {
	for _, r := range s {
		if r < 0x590 {
			continue
		}
		if p, _ := bidi.LookupRune(r); p.Class() == bidi.R || p.Class() == bidi.AL {
			return true
		}
	}
	return false
}
