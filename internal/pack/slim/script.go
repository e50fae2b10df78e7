package slim

import (
	"bytes"
	"slices"
	"strings"

	"github.com/tdewolff/parse/v2"
	"github.com/tdewolff/parse/v2/js"
)

// largestScript is the largest script that is made smaller, in bytes: its tree is made twice.
const largestScript = 4 << 20

// script leaves out comments and spaces, and nothing that a program can observe: names, the number of parameters, the order of what is
// done, and the comments of functions that hold nothing else, which are texts that the program reads. Lines end where they ended. It is
// nil where the syntax tree is not the same afterwards.
func script(data []byte) []byte {
	if len(data) > largestScript {
		return nil
	}
	before, ok := treeOf(data)
	if !ok {
		return nil
	}
	small := squeezed(data)
	if small == nil {
		return nil
	}
	if after, ok := treeOf(small); !ok || after != before {
		return nil
	}
	return small
}

// treeOf is the syntax tree of a script, as a text.
func treeOf(data []byte) (string, bool) {
	tree, err := js.Parse(parse.NewInputBytes(slices.Clip(data)), js.Options{})
	if err != nil {
		return "", false
	}
	return tree.JSString(), true
}

// squeezed puts the tokens of a script together again.
func squeezed(data []byte) []byte {
	lexer := js.NewLexer(parse.NewInputBytes(slices.Clip(data)))
	s := squeezer{out: make([]byte, 0, len(data))}
	for {
		kind, text := lexer.Next()
		if (kind == js.DivToken || kind == js.DivEqToken) && !endsValue(s.last) {
			kind, text = lexer.RegExp()
		}
		switch kind {
		case js.ErrorToken:
			if lexer.Err() != nil && lexer.Err().Error() != "EOF" {
				return nil
			}
			return s.out
		case js.WhitespaceToken:
			s.space = true
		case js.LineTerminatorToken:
			s.line = true
		case js.CommentToken, js.CommentLineTerminatorToken:
			s.comment(kind, text)
		default:
			s.token(kind, text)
		}
	}
}

// A squeezer writes the tokens of a script with as little between them as can be.
type squeezer struct {
	out         []byte
	last        js.TokenType
	held        [][]byte // comments that may be all that a function holds
	space, line bool     // what was between the last token and the next
}

func (s *squeezer) comment(kind js.TokenType, text []byte) {
	if kept(text) {
		s.out = append(append(s.out, breakOf(len(s.out) > 0)...), text...)
		s.line, s.space = true, false
		return
	}
	if s.last == js.OpenBraceToken {
		s.held = append(s.held, text)
	}
	s.line = s.line || kind == js.CommentLineTerminatorToken || bytes.HasPrefix(text, []byte("//"))
	s.space = true
}

func (s *squeezer) token(kind js.TokenType, text []byte) {
	if kind == js.CloseBraceToken && s.last == js.OpenBraceToken {
		for _, c := range s.held {
			s.out = append(append(s.out, c...), breakOf(bytes.HasPrefix(c, []byte("//")))...)
		}
	}
	s.held = nil
	switch {
	case s.line && len(s.out) > 0:
		s.out = append(s.out, '\n')
	case s.space && len(s.out) > 0 && apart(s.out[len(s.out)-1], text[0]):
		s.out = append(s.out, ' ')
	}
	s.out = append(s.out, text...)
	s.last, s.space, s.line = kind, false, false
}

func breakOf(needed bool) string {
	if needed {
		return "\n"
	}
	return ""
}

// kept reports whether a comment says something to others than its writer: a licence, or an instruction to a tool.
func kept(comment []byte) bool {
	for _, sign := range []string{"/*!", "//!", "@license", "@preserve", "@cc_on", "sourceMappingURL=", "sourceURL="} {
		if bytes.Contains(comment, []byte(sign)) {
			return true
		}
	}
	return false
}

// apart reports whether two tokens would become others without a space between them, by the letters where they meet.
func apart(a, b byte) bool {
	switch {
	case wordly(a):
		return wordly(b) || oneOf(b, "\"'`/.")
	case wordly(b):
		return oneOf(a, "./\"'`)]")
	case a == ')' || a == ']':
		return b == '/'
	}
	return !oneOf(a, "{}([;,") && !oneOf(b, "{}()[];,") // two operators
}

// wordly reports whether a letter may be a part of a name or number.
func wordly(c byte) bool {
	return c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= '0' && c <= '9' || c >= 0x80 || oneOf(c, "_$\\#@")
}

func oneOf(c byte, list string) bool { return strings.IndexByte(list, c) >= 0 }

func endsValue(t js.TokenType) bool {
	switch t {
	case js.StringToken, js.TemplateToken, js.TemplateEndToken, js.CloseParenToken, js.CloseBracketToken, js.CloseBraceToken,
		js.RegExpToken, js.IncrToken, js.DecrToken, js.ThisToken, js.SuperToken, js.TrueToken, js.FalseToken, js.NullToken:
		return true
	}
	return js.IsIdentifier(t) || js.IsNumeric(t)
}
