package web

import (
	"bytes"
	"sort"
	"strings"

	"github.com/tdewolff/parse/v2"
	"github.com/tdewolff/parse/v2/css"
)

// A Style is what a stylesheet says of itself.
type Style struct {
	Links    []Link
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
	r := &styleReader{lines: newLines(data)}
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
	style            Style
	lines            lines
	importing, inURL bool
	page             bool   // the current rule is for the page as a whole
	property         string // of the current declaration
}

func (r *styleReader) token(kind css.TokenType, text []byte, at int) {
	switch kind {
	case css.AtKeywordToken:
		r.importing = bytes.EqualFold(text, []byte("@import"))
	case css.SemicolonToken:
		r.importing, r.property = false, ""
	case css.LeftBraceToken:
		r.importing, r.property = false, ""
	case css.RightBraceToken:
		r.page, r.property = false, ""
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
	case css.FunctionToken:
		r.inURL = bytes.EqualFold(text, []byte("url("))
	case css.StringToken:
		if r.importing || r.inURL {
			r.link(string(text), at)
		}
		r.inURL = false
	}
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
	l := Link{Target: target, Use: "picture", Offset: offset, Len: len(target), Whole: true, Tail: len(target)}
	if r.importing {
		l.Use = "style"
	}
	l.Line, l.Column = r.lines.place(offset)
	r.style.Links = append(r.style.Links, l)
}

func unquote(s string, offset int) (string, int) {
	if len(s) >= 2 && (s[0] == '"' || s[0] == '\'') {
		return strings.TrimRight(s[1:], s[:1]), offset + 1
	}
	return s, offset
}

// lines finds the line and column of an offset.
type lines []int

func newLines(data []byte) lines {
	starts := lines{0}
	for i, c := range data {
		if c == '\n' {
			starts = append(starts, i+1)
		}
	}
	return starts
}

func (l lines) place(offset int) (line, column int) {
	line = sort.SearchInts(l, offset+1)
	return line, offset - l[line-1] + 1
}
