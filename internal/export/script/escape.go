package script

import (
	"bytes"
	"strconv"
	"strings"
	"unicode/utf16"
	"unicode/utf8"
)

// unescaped resolves the escapes of a string or template (ECMA-262, section 12.9.4).
func unescaped(s []byte) string {
	if bytes.IndexByte(s, '\\') < 0 {
		return string(s)
	}
	var b strings.Builder
	for i := 0; i < len(s); i++ {
		if s[i] != '\\' || i+1 == len(s) {
			b.WriteByte(s[i])
			continue
		}
		i++
		switch c := s[i]; c {
		case '\n':
		case 'x':
			r, n := hex(s[i+1:], 2)
			b.WriteRune(r)
			i += n
		case 'u':
			r, n := codeUnits(s[i+1:])
			b.WriteRune(r)
			i += n
		default:
			if of := strings.IndexByte("ntrbfv0", c); of >= 0 {
				c = "\n\t\r\b\f\v\x00"[of]
			}
			b.WriteByte(c)
		}
	}
	return b.String()
}

// codeUnits reads what follows \u, with the second half of a pair.
func codeUnits(s []byte) (r rune, n int) {
	r, n = codePoint(s)
	if utf16.IsSurrogate(r) && n+1 < len(s) && s[n] == '\\' && s[n+1] == 'u' {
		low, m := codePoint(s[n+2:])
		return utf16.DecodeRune(r, low), n + 2 + m
	}
	return r, n
}

func codePoint(s []byte) (r rune, n int) {
	if len(s) > 0 && s[0] == '{' {
		end := bytes.IndexByte(s, '}')
		if end < 0 {
			return utf8.RuneError, 0
		}
		r, _ = hex(s[1:end], end-1)
		return r, end + 1
	}
	return hex(s, 4)
}

func hex(s []byte, digits int) (rune, int) {
	if len(s) < digits || digits < 1 {
		return utf8.RuneError, 0
	}
	n, err := strconv.ParseUint(string(s[:digits]), 16, 32)
	if err != nil {
		return utf8.RuneError, 0
	}
	return rune(n), digits
}
