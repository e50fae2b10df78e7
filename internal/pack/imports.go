package pack

import (
	"fmt"
	"net/url"
	"path"
	"strconv"
	"strings"

	"github.com/tdewolff/parse/v2"
	"github.com/tdewolff/parse/v2/js"
)

// A rewriter has a script's imports lead to what a page holds. Three things are rewritten: the specifiers of static imports and exports,
// import(…), and import.meta (ECMA-262, sections 16.2 and 13.3).
type rewriter struct {
	name  string                     // of the script, in the game's folder
	holds func(string) bool          // whether the page holds a file
	found func(specifier, to string) // is told of specifiers with a query, and the file that they lead to

	edits []edit
	words []word   // the last ones first
	opens []opener // brackets that are open
}

// A word is a token that means something.
type word struct {
	kind js.TokenType
	text string
	at   int
}

// An opener is a bracket, with what stood before it.
type opener struct{ control, value bool }

// rewritten is a script whose imports lead to what the page holds; a script without any comes back as it is.
func rewritten(data []byte, name string, holds func(string) bool, found func(specifier, to string)) ([]byte, error) {
	if !strings.Contains(string(data), "import") && !strings.Contains(string(data), "from") {
		return data, nil
	}
	r := &rewriter{name: name, holds: holds, found: found, words: make([]word, 4)}
	input := inputOf(data)
	defer input.Restore()
	lexer := js.NewLexer(input)
	for at := 0; ; {
		kind, text := lexer.Next()
		if (kind == js.DivToken || kind == js.DivEqToken) && !r.value() {
			kind, text = lexer.RegExp()
		}
		if kind == js.ErrorToken {
			break
		}
		switch kind {
		case js.WhitespaceToken, js.LineTerminatorToken, js.CommentToken, js.CommentLineTerminatorToken:
		default:
			r.word(word{kind, string(text), at})
		}
		at += len(text)
	}
	input.Restore()
	return apply(data, r.edits)
}

// value reports whether the last word ends a value, so that a slash after it divides.
func (r *rewriter) value() bool {
	switch w := r.words[0]; w.kind {
	case js.StringToken, js.TemplateToken, js.TemplateEndToken, js.CloseBracketToken, js.RegExpToken, js.IncrToken, js.DecrToken, js.ThisToken,
		js.SuperToken, js.TrueToken, js.FalseToken, js.NullToken, js.CloseParenToken, js.CloseBraceToken:
		return w.text != "" && w.text[0] != '!'
	default:
		return js.IsIdentifier(w.kind) || js.IsNumeric(w.kind)
	}
}

func (r *rewriter) word(w word) {
	before := r.words[0]
	switch w.kind {
	case js.OpenParenToken:
		r.opens = append(r.opens, opener{control: controls(before.kind) && r.words[1].kind != js.DotToken})
		if before.kind == js.ImportToken && r.words[1].kind != js.DotToken {
			r.put(before.at, len(before.text), "havvelHeld.from("+strconv.Quote(r.name)+")")
		}
	case js.OpenBraceToken:
		r.opens = append(r.opens, opener{value: !r.statement()})
	case js.OpenBracketToken, js.TemplateStartToken:
		r.opens = append(r.opens, opener{value: true})
	case js.CloseParenToken, js.CloseBraceToken, js.CloseBracketToken, js.TemplateEndToken:
		if r.close(w.kind) {
			w.text = "!"
		}
	case js.StringToken:
		r.specifier(w)
	}
	if string(w.text) == "meta" && before.kind == js.DotToken && r.words[1].kind == js.ImportToken {
		r.put(r.words[1].at, w.at+len(w.text)-r.words[1].at, "havvelHeld.meta("+strconv.Quote(r.name)+")")
	}
	r.words = append([]word{w}, r.words[:3]...)
}

// close takes a closing bracket, and reports whether what follows is a statement's beginning.
func (r *rewriter) close(kind js.TokenType) bool {
	n := len(r.opens)
	if n == 0 {
		return false
	}
	o := r.opens[n-1]
	r.opens = r.opens[:n-1]
	return o.control || kind == js.CloseBraceToken && !o.value
}

// controls reports whether a statement follows the brackets behind a word.
func controls(kind js.TokenType) bool {
	return kind == js.IfToken || kind == js.ForToken || kind == js.WhileToken || kind == js.WithToken
}

// statement reports whether a brace that comes now begins a block, and no object.
func (r *rewriter) statement() bool {
	switch w := r.words[0]; w.kind {
	case js.OpenParenToken, js.CommaToken, js.EqToken, js.ColonToken, js.OpenBracketToken, js.QuestionToken, js.ReturnToken,
		js.AndToken, js.OrToken, js.NotToken, js.AddToken, js.TypeofToken, js.NullishToken, js.TemplateStartToken, js.TemplateMiddleToken,
		js.EllipsisToken, js.DefaultToken,
		js.EqEqToken, js.EqEqEqToken, js.NotEqToken, js.NotEqEqToken, js.YieldToken, js.AwaitToken, js.InToken, js.OfToken, js.VoidToken,
		js.NewToken, js.DeleteToken, js.CaseToken, js.ThrowToken, js.NullishEqToken, js.OrEqToken, js.AndEqToken:
		return false
	}
	return true
}

// specifier rewrites a static import's or export's.
func (r *rewriter) specifier(w word) {
	before, first := r.words[0], r.words[1]
	from := before.text == "from" && first.kind != js.DotToken && first.text != ""
	if !from && (before.kind != js.ImportToken || first.kind == js.DotToken) {
		return
	}
	target := w.text[1 : len(w.text)-1]
	if !strings.HasPrefix(target, ".") && !strings.HasPrefix(target, "/") {
		return // a name of an import map, or an address
	}
	plain, query, has := strings.Cut(target, "?")
	if has {
		query = "?" + query
	}
	inside := strings.TrimPrefix(path.Join("/", path.Dir(r.name), plain), "/")
	if strings.HasPrefix(plain, "/") {
		inside = strings.TrimPrefix(path.Clean(plain), "/")
	}
	if decoded, err := url.PathUnescape(inside); err == nil {
		inside = decoded
	}
	if !r.holds(inside) {
		return
	}
	held := "held:/" + escaped(inside) + query
	if has {
		r.found(held, inside)
	}
	r.put(w.at, len(w.text), w.text[:1]+held+w.text[:1])
}

// inputOf is a script to be read.
func inputOf(data []byte) *parse.Input { return parse.NewInputBytes(data) }

func (r *rewriter) put(at, length int, text string) {
	r.edits = append(r.edits, edit{at, length, text})
}

// escaped is a name as an address has it, as encodeURIComponent writes its parts.
func escaped(name string) string {
	var b strings.Builder
	for _, c := range []byte(name) {
		if c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= '0' && c <= '9' || strings.IndexByte("-_.!~*'()/", c) >= 0 {
			b.WriteByte(c)
		} else {
			fmt.Fprintf(&b, "%%%02X", c)
		}
	}
	return b.String()
}
