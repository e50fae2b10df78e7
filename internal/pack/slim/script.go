package slim

import (
	"bytes"
	"slices"

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
	out := make([]byte, 0, len(data))
	last := js.TokenType(0)
	var held [][]byte // comments that may be all that a function holds
	space, line := false, false
	for {
		kind, text := lexer.Next()
		if (kind == js.DivToken || kind == js.DivEqToken) && !endsValue(last) {
			kind, text = lexer.RegExp()
		}
		switch kind {
		case js.ErrorToken:
			if lexer.Err() != nil && lexer.Err().Error() != "EOF" {
				return nil
			}
			return out
		case js.WhitespaceToken:
			space = true
			continue
		case js.LineTerminatorToken:
			line = true
			continue
		case js.CommentToken, js.CommentLineTerminatorToken:
			if kept(text) {
				out = append(append(out, breakOf(len(out) > 0)...), text...)
				line, space = true, false
				continue
			}
			if last == js.OpenBraceToken {
				held = append(held, text)
			}
			line = line || kind == js.CommentLineTerminatorToken || bytes.HasPrefix(text, []byte("//"))
			space = true
			continue
		}
		if kind == js.CloseBraceToken && last == js.OpenBraceToken {
			for _, c := range held {
				out = append(append(out, c...), breakOf(bytes.HasPrefix(c, []byte("//")))...)
			}
		}
		held = nil
		switch {
		case line && len(out) > 0:
			out = append(out, '\n')
		case space && len(out) > 0 && apart(out[len(out)-1], text[0]):
			out = append(out, ' ')
		}
		out = append(out, text...)
		last, space, line = kind, false, false
	}
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
	word := func(c byte) bool {
		return c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= '0' && c <= '9' || c == '_' || c == '$' || c == '\\' || c == '#' ||
			c == '@' ||
			c >= 0x80
	}
	switch {
	case word(a) && (word(b) || b == '"' || b == '\'' || b == '`' || b == '/' || b == '.'),
		word(b) && (a == '.' || a == '/' || a == '"' || a == '\'' || a == '`'):
		return true
	case a == '{' || a == '}' || a == '(' || a == '[' || a == ';' || a == ',' || b == '}' || b == ')' || b == ']' || b == ';' || b == ',':
		return false
	case a == ')' || a == ']':
		return word(b) || b == '/'
	case b == '(' || b == '[' || b == '{':
		return word(a) && false
	}
	return !word(a) && !word(b) // two operators
}

func endsValue(t js.TokenType) bool {
	switch t {
	case js.StringToken, js.TemplateToken, js.TemplateEndToken, js.CloseParenToken, js.CloseBracketToken, js.CloseBraceToken,
		js.RegExpToken, js.IncrToken, js.DecrToken, js.ThisToken, js.SuperToken, js.TrueToken, js.FalseToken, js.NullToken:
		return true
	}
	return js.IsIdentifier(t) || js.IsNumeric(t)
}
