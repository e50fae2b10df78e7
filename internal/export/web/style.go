package web

import (
	"bytes"
	"strconv"
	"strings"

	"github.com/tdewolff/parse/v2"
	"github.com/tdewolff/parse/v2/css"

	"havvel/internal/export/link"
)

// A Style is what a stylesheet says of itself.
type Style struct {
	Links    []link.Link
	NoMargin bool // sets the margin of the body, or of everything
	NoScroll bool // hides what overflows the page
}

func (s *Style) add(o Style) {
	s.NoMargin = s.NoMargin || o.NoMargin
	s.NoScroll = s.NoScroll || o.NoScroll
}

// ReadStyle reads a stylesheet: its links, in url() and in the strings of @import, and what it does to the page as a
// whole.
func ReadStyle(data []byte) Style {
	r := &styleReader{lines: link.NewLines(data)}
	lexer := css.NewLexer(parse.NewInputBytes(append([]byte(nil), data...))) // the lexer writes behind its input
	for at := 0; ; {
		kind, text := lexer.Next()
		if kind == css.ErrorToken {
			return r.style
		}
		r.token(kind, text, at)
		at += len(text)
	}
}

type styleReader struct {
	style     Style
	lines     link.Lines
	importing bool
	open      []string // functions and other brackets around what is read now
	depth     int      // of blocks
	page      bool     // the current rule is for the page as a whole
	property  string   // of the current declaration
}

func (r *styleReader) token(kind css.TokenType, text []byte, at int) {
	switch kind {
	case css.AtKeywordToken:
		r.importing = r.depth == 0 && bytes.EqualFold(text, []byte("@import")) // within a block it means nothing
	case css.SemicolonToken, css.LeftBraceToken, css.RightBraceToken:
		r.ends(kind)
	case css.IdentToken, css.CustomPropertyNameToken:
		r.word(strings.ToLower(string(text)))
	case css.DelimToken:
		if text[0] == '*' {
			r.page = true
		}
	case css.URLToken:
		inner := bytes.TrimSuffix(text[4:], []byte(")"))
		trimmed := bytes.TrimLeft(inner, " \t\r\n\f")
		r.link(string(bytes.TrimRight(trimmed, " \t\r\n\f")), at+4+len(inner)-len(trimmed))
	case css.FunctionToken, css.LeftParenthesisToken:
		r.open = append(r.open, strings.ToLower(string(text)))
	case css.RightParenthesisToken:
		r.open = r.open[:max(0, len(r.open)-1)]
	case css.StringToken:
		if r.importing && len(r.open) == 0 || r.names() {
			r.link(string(text), at)
		}
	}
}

// ends takes the end of a declaration, or of what stands before a block, or of a block.
func (r *styleReader) ends(kind css.TokenType) {
	r.importing, r.property = false, ""
	switch kind {
	case css.LeftBraceToken:
		r.depth++
	case css.RightBraceToken:
		r.page, r.open, r.depth = false, nil, max(0, r.depth-1)
	}
}

// names reports whether a text that stands here is an address.
func (r *styleReader) names() bool {
	if len(r.open) == 0 {
		return false
	}
	switch r.open[len(r.open)-1] {
	case "url(", "image-set(", "-webkit-image-set(":
		return true
	}
	return false
}

// word looks at the names of elements and properties that concern the page as a whole.
func (r *styleReader) word(word string) {
	switch {
	case word == "body" || word == "html":
		r.page = true
	case !r.page:
	case strings.HasPrefix(word, "margin"):
		r.style.NoMargin = true
	case strings.HasPrefix(word, "overflow"):
		r.property = word
	case r.property != "" && (word == "hidden" || word == "clip"):
		r.style.NoScroll = true
	}
}

func (r *styleReader) link(written string, at int) {
	target, offset := unquote(written, at)
	if target == "" {
		return
	}
	l := link.Link{Target: unescaped(target), Use: "picture", Offset: offset, Len: len(target)}
	if r.importing {
		l.Use = "style"
	}
	l.Line, l.Column = r.lines.Place(offset)
	r.style.Links = append(r.style.Links, l)
}

func unquote(s string, offset int) (string, int) {
	if len(s) >= 2 && (s[0] == '"' || s[0] == '\'') {
		return strings.TrimRight(s[1:], s[:1]), offset + 1
	}
	return s, offset
}

// unescaped resolves the escapes of a stylesheet's text (CSS Syntax Level 3, section 4.3.7).
func unescaped(s string) string {
	if !strings.Contains(s, `\`) {
		return s
	}
	var b strings.Builder
	for i := 0; i < len(s); i++ {
		if s[i] != '\\' || i+1 == len(s) {
			b.WriteByte(s[i])
			continue
		}
		digits := i + 1
		for digits < len(s) && digits < i+7 && strings.IndexByte("0123456789abcdefABCDEF", s[digits]) >= 0 {
			digits++
		}
		if n, err := strconv.ParseUint(s[i+1:digits], 16, 32); err == nil {
			b.WriteRune(rune(n))
			if i = digits - 1; digits < len(s) && (s[digits] == ' ' || s[digits] == '\n' || s[digits] == '\t') {
				i++
			}
			continue
		}
		if i++; s[i] != '\n' {
			b.WriteByte(s[i])
		}
	}
	return b.String()
}
