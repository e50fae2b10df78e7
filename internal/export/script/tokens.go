package script

import (
	"github.com/tdewolff/parse/v2"
	"github.com/tdewolff/parse/v2/js"

	"havvel/internal/export/link"
)

// readTokens reads a script that can't be parsed. It sees texts that stand whole, and what stands before them; names that are put
// together stay unseen.
func readTokens(s *Script, data []byte) {
	input := parse.NewInputBytes(data)
	defer input.Restore()
	t := &tokens{script: s, lines: link.NewLines(data), seen: map[string]int{}, facts: &facts{script: s, source: input.Bytes()}}
	lexer := js.NewLexer(input)
	for at := 0; ; {
		kind, text := lexer.Next()
		if (kind == js.DivToken || kind == js.DivEqToken) && !endsValue(t.last(0)) {
			kind, text = lexer.RegExp()
		}
		if kind == js.ErrorToken {
			return
		}
		t.token(token{kind, text, at})
		at += len(text)
	}
}

type token struct {
	kind js.TokenType
	text []byte
	at   int
}

type tokens struct {
	script *Script
	facts  *facts
	lines  link.Lines
	recent [4]token // the last one first
	seen   map[string]int
}

func (t *tokens) last(i int) token { return t.recent[i] }

func endsValue(t token) bool {
	switch t.kind {
	case js.StringToken, js.TemplateToken, js.TemplateEndToken, js.CloseParenToken, js.CloseBracketToken, js.CloseBraceToken,
		js.RegExpToken, js.IncrToken, js.DecrToken, js.ThisToken, js.SuperToken, js.TrueToken, js.FalseToken, js.NullToken:
		return true
	}
	return js.IsIdentifier(t.kind) || js.IsNumeric(t.kind)
}

func (t *tokens) token(k token) {
	switch k.kind {
	case js.WhitespaceToken, js.LineTerminatorToken, js.CommentToken, js.CommentLineTerminatorToken:
		return
	case js.StringToken, js.TemplateToken:
		t.text(k)
	default:
		if js.IsIdentifierName(k.kind) {
			t.facts.word(k.text)
		}
		switch k.kind {
		case js.OpenParenToken:
			t.call()
		case js.DotToken, js.OptChainToken, js.ColonToken, js.EqToken, js.ArrowToken:
		default:
			t.use()
		}
	}
	t.recent = [4]token{k, t.recent[0], t.recent[1], t.recent[2]}
}

// call notes a call such as Portal.ready( of two names.
func (t *tokens) call() {
	name, dot, object := t.last(0), t.last(1), t.last(2)
	dotted := js.IsIdentifierName(name.kind) && dot.kind == js.DotToken && js.IsIdentifier(object.kind)
	if !dotted || len(object.text) < 3 || ordinary[string(object.text)] || len(t.script.Calls) >= maxCallNames {
		return
	}
	whole := string(object.text) + "." + string(name.text)
	if _, ok := t.script.Calls[whole]; !ok {
		t.script.Calls[whole] = object.at
	}
}

// use notes a name that is no part of a longer one, or one of two names such as Portal.ready.
func (t *tokens) use() {
	name, dot, object := t.last(0), t.last(1), t.last(2)
	switch {
	case !js.IsIdentifierName(name.kind):
	case dot.kind != js.DotToken && js.IsIdentifier(name.kind):
		t.facts.use(foreign(string(name.text)), name.at)
	case dot.kind == js.DotToken && js.IsIdentifier(object.kind) && t.last(3).kind != js.DotToken:
		t.facts.use(foreign(string(object.text)+"."+string(name.text)), object.at)
	}
}

func (t *tokens) text(k token) {
	if len(k.text) < 3 {
		return
	}
	t.facts.content(k.text)
	target := unquoted(k.text)
	l := link.Link{Target: target, Use: "data", Certainty: link.Possible, Base: link.OfAny, Offset: k.at + 1, Len: len(k.text) - 2}
	before, callee := t.last(0), t.last(1)
	switch {
	case string(before.text) == "from" && callee.kind != js.DotToken, before.kind == js.ImportToken,
		before.kind == js.OpenParenToken && callee.kind == js.ImportToken:
		t.script.Module = true
		l.Use, l.Certainty, l.Base, l.Import = "script", link.Certain, link.OfFile, true
		if isBare(target) && len(t.script.Bare) < link.MaxLinks {
			l.Line, l.Column = t.lines.Place(l.Offset)
			t.script.Bare = append(t.script.Bare, l)
			return
		}
		if !link.IsRelative(target) {
			return
		}
	case before.kind == js.OpenParenToken && len(byName[string(callee.text)]) > 0:
		s := byName[string(callee.text)][0]
		l.Use, l.Certainty, l.Base, l.Worker = s.use, link.Likely, s.base, s.worker
	}
	t.keep(l)
}

// keep keeps a link whose target may be one.
func (t *tokens) keep(l link.Link) {
	if len(l.Target) > link.MaxTarget || len(t.script.Links) >= link.MaxLinks {
		return
	}
	pathLike := link.LooksLikePath(l.Target) || link.IsFolder(l.Target)
	if l.Certainty != link.Certain && !pathLike || l.Certainty == link.Possible && link.IsAddress(l.Target) {
		return
	}
	if first, ok := t.seen[l.Target]; ok && l.Certainty == link.Possible {
		t.script.Links[first].Repeat(l)
		return
	}
	t.seen[l.Target] = len(t.script.Links)
	l.Line, l.Column = t.lines.Place(l.Offset)
	t.script.Links = append(t.script.Links, l)
}
