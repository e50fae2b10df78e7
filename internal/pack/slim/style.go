package slim

import (
	"bytes"
	"io"
	"slices"
	"strings"

	"github.com/tdewolff/parse/v2"
	"github.com/tdewolff/parse/v2/css"
)

// style leaves comments and spaces out of a stylesheet, and changes no value: what a number's unit or a shorthand means differs from
// browser to browser, and programs read custom properties letter by letter, so these stay as they are.
func style(data []byte) []byte {
	lexer := css.NewLexer(parse.NewInputBytes(slices.Clip(data)))
	out := make([]byte, 0, len(data))
	space, custom := false, false
	for {
		kind, text := lexer.Next()
		switch kind {
		case css.ErrorToken:
			if lexer.Err() != io.EOF {
				return nil
			}
			return out
		case css.BadStringToken, css.BadURLToken:
			return nil
		case css.CommentToken, css.WhitespaceToken:
			if !custom && !bytes.HasPrefix(text, []byte("/*!")) {
				space = true // a comment parts what stands before and behind it, too
				continue
			}
		case css.CustomPropertyNameToken:
			custom = true
		case css.SemicolonToken, css.RightBraceToken:
			custom = false
		}
		if space && len(out) > 0 && !parts(out[len(out)-1]) && !parts(text[0]) {
			out = append(out, ' ')
		}
		space = false
		out = append(out, text...)
	}
}

// parts reports whether a sign parts what stands before and behind it.
func parts(c byte) bool { return strings.IndexByte("{};,", c) >= 0 }
