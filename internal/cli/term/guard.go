package term

import (
	"fmt"
	"io"
	"regexp"
	"strings"
	"unicode"
	"unicode/utf8"
)

// A guard writes words, some of which come from outside. Nothing in them makes a terminal do anything but show them, go to the next line,
// and show colour: other control characters, and those that turn the direction of writing, become spaces.
type guard struct {
	to io.Writer
	on *Screen // which may show colour
}

// Write implements io.Writer.
func (g guard) Write(p []byte) (int, error) {
	if _, err := io.WriteString(g.to, g.safe(string(p))); err != nil {
		return 0, err
	}
	return len(p), nil
}

// tone is an escape sequence that says how what follows looks, and no more (ECMA-48, SGR).
var tone = regexp.MustCompile(`^\x1b\[[0-9;]*m`)

func (g guard) safe(words string) string {
	if utf8.ValidString(words) && !strings.ContainsFunc(words, commands) {
		return words
	}
	var b strings.Builder
	for words != "" {
		if at := tone.FindString(words); at != "" && g.on.colour {
			b.WriteString(at)
			words = words[len(at):]
			continue
		}
		r, n := utf8.DecodeRuneInString(words)
		if commands(r) {
			r = ' '
		}
		b.WriteRune(r)
		words = words[n:]
	}
	return b.String()
}

// commands reports whether a terminal may do something at a character, other than to show it or to go on behind it.
func commands(r rune) bool {
	return unicode.IsControl(r) && r != '\n' && r != '\t' || unicode.Is(unicode.Bidi_Control, r)
}

// A quoting writer writes JSON, in which such characters stand as JSON's own escapes (RFC 8259, section 7).
type quoting struct{ to io.Writer }

// Write implements io.Writer.
func (q quoting) Write(p []byte) (int, error) {
	var b strings.Builder
	for _, r := range string(p) {
		if commands(r) {
			fmt.Fprintf(&b, `\u%04x`, r)
		} else {
			b.WriteRune(r)
		}
	}
	if _, err := io.WriteString(q.to, b.String()); err != nil {
		return 0, err
	}
	return len(p), nil
}
