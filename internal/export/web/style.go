package web

import (
	"bytes"
	"sort"
	"strings"

	"github.com/tdewolff/parse/v2"
	"github.com/tdewolff/parse/v2/css"
)

// ReadStyle lists the links of a stylesheet: url() and the strings of @import.
func ReadStyle(data []byte) []Link {
	var links []Link
	places := newLines(data)
	lexer := css.NewLexer(parse.NewInputBytes(append([]byte(nil), data...))) // the lexer writes behind its input
	importing, inURL := false, false
	for at := 0; ; {
		kind, token := lexer.Next()
		if kind == css.ErrorToken {
			return links
		}
		use := "picture"
		if importing {
			use = "style"
		}
		target, offset := "", at
		switch kind {
		case css.AtKeywordToken:
			importing = bytes.EqualFold(token, []byte("@import"))
		case css.SemicolonToken, css.LeftBraceToken:
			importing = false
		case css.URLToken:
			inner := token[4:]
			inner = bytes.TrimSuffix(inner, []byte(")"))
			trimmed := bytes.TrimLeft(inner, " \t\r\n\f")
			offset += 4 + len(inner) - len(trimmed)
			target, offset = unquote(string(bytes.TrimRight(trimmed, " \t\r\n\f")), offset)
		case css.FunctionToken:
			inURL = bytes.EqualFold(token, []byte("url("))
		case css.StringToken:
			if importing || inURL {
				target, offset = unquote(string(token), offset)
			}
			inURL = false
		}
		if target != "" {
			l := Link{Target: target, Use: use, Offset: offset, Len: len(target)}
			l.Line, l.Column = places.place(offset)
			links = append(links, l)
		}
		at += len(token)
	}
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
