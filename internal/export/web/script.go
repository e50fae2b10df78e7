package web

import (
	"bytes"
	"strings"

	"github.com/tdewolff/parse/v2"
	"github.com/tdewolff/parse/v2/js"
)

// A Script is what a script says of itself.
type Script struct {
	Links []Link
	Calls map[string]int      // functions called by a dotted name on a global, such as Portal.ready; value: offset of the first
	Args  map[string][]string // texts that are the first argument of such calls
	Words map[string]bool     // identifiers that say something about what a game needs or does
	Says  map[string]int      // texts that name a moment of the game; value: offset of the first
	Root  []Link              // the path on the host, such as "/", that bundlers put names of the game's parts behind
	Bare  []Link              // imports by a name that is no address; an import map says what it stands for

	Digests []Digest // by which it names files that it loads
}

// telling are identifiers whose use says something about what a game needs or does.
var telling = map[string]bool{
	"SharedArrayBuffer": true, "preventDefault": true, "oncontextmenu": true, "contextmenu": true, "margin": true, "serviceWorker": true, "overflow": true, "DecompressionStream": true, "viewport": true, "modulepreload": true,
}

// moments are texts by which a game announces what happens in it, each with the event that carries it.
var moments = map[string]bool{
	"game-moment": true, "game-answer": true, "loading-begun": true, "loading-done": true, "play-begun": true, "play-stopped": true, "level-begun": true, "level-ended": true,
	"break-wanted": true, "reward-wanted": true, "statistic": true, "save": true, "load": true,
}

// limits on what is kept of one script, however large it is.
const (
	maxLinks  = 50_000
	maxCalls  = 20_000
	maxTarget = 300 // letters of a file name in a script
	maxConst  = 20_000
	maxArgs   = 100 // of one call
	maxAgain  = 100 // places of one text
)

// ReadScript lists the places of a script that name files: imports, workers, fetches, strings that look like a
// file's name, and strings put together from constants. It never fails: what can't be read is passed over.
//
// Between the length and the capacity of data it may write.
func ReadScript(data []byte) *Script {
	r := &scriptReader{
		script: &Script{Calls: map[string]int{}, Args: map[string][]string{}, Words: map[string]bool{}, Says: map[string]int{}},
		value:  &joined{}, consts: map[string]string{}, words: map[string]bool{}, seen: map[string]int{}, lines: newLines(data),
	}
	lexer := js.NewLexer(parse.NewInputBytes(data)) // it copies data that has no room behind it
	for at := 0; ; {
		kind, text := lexer.Next()
		if (kind == js.DivToken || kind == js.DivEqToken) && !endsValue(r.last(1)) {
			kind, text = lexer.RegExp()
		}
		if kind == js.ErrorToken {
			break
		}
		r.token(kind, text, at)
		at += len(text)
	}
	r.flush()
	for _, c := range r.roots {
		if r.script.Words[c.word] || r.words[c.word] { // otherwise it may as well be another path
			c.link.Module = c.word == ahead && r.words[resolved]
			r.script.Root = append(r.script.Root, c.link)
		}
	}
	return r.script
}

// A token, with where it stands.
type token struct {
	kind js.TokenType
	text []byte
	at   int
}

type scriptReader struct {
	script *Script
	lines  lines
	recent [8]token // the last significant ones; recent[n%8]
	n      int
	value  *joined
	called string            // the dotted name of the call whose arguments begin with the latest token
	outer  []*joined         // the texts around the template expression that is being read
	consts map[string]string // what constants hold; "\x00" when they hold different things in different places
	aside  *Link             // the latest of Links, while it is not known what its name is relative to
	roots  []rooted          // what may be in Root
	words  map[string]bool   // properties that texts are put behind, which show that it is
	seen   map[string]int    // the links that are only possible, by text; value: their place in Links
}

// joined is a text put together with +, as far as it is known. Parts that are not known are stars.
type joined struct {
	text    []byte
	literal bool // has a string literal in it
	open    bool // a value may still be added to it
	at, len int  // of the last literal's content
	parts   int  // how many texts were put together
	tail    int  // how many bytes at the end of text stand at the last literal, letter for letter
	context [5]token
	call    string // the call of which this is the first argument
}

// star stands for a part of a joined text that is not known.
const star = "*"

// last is the i-th token from the end; 1 is the latest.
func (r *scriptReader) last(i int) token {
	if r.n < i {
		return token{}
	}
	return r.recent[(r.n-i)%len(r.recent)]
}

func endsValue(t token) bool {
	switch t.kind {
	case js.StringToken, js.TemplateEndToken, js.CloseParenToken, js.CloseBracketToken, js.CloseBraceToken, js.RegExpToken, js.IncrToken, js.DecrToken, js.ThisToken, js.SuperToken, js.TrueToken, js.FalseToken, js.NullToken:
		return true
	}
	return js.IsIdentifier(t.kind) || js.IsNumeric(t.kind)
}

func (r *scriptReader) token(kind js.TokenType, text []byte, at int) {
	switch kind {
	case js.WhitespaceToken, js.LineTerminatorToken, js.CommentToken, js.CommentLineTerminatorToken:
		return
	case js.TemplateToken: // bundlers write texts in this form, too
		kind = js.StringToken
	}
	t := token{kind, text, at}
	r.join(t)
	r.beside(t)
	r.called = ""
	if js.IsIdentifierName(kind) {
		r.word(t)
	}
	switch kind {
	case js.OpenParenToken:
		r.call()
	case js.CloseBraceToken:
		r.rootedParts()
	case js.CommaToken, js.SemicolonToken:
		r.rootedPath()
	case js.AddToken:
		if r.last(1).kind != js.StringToken && string(r.last(1).text) == pathKey && r.last(2).kind == js.DotToken {
			r.words[string(r.last(3).text)+"."+pathKey] = true
		}
	}
	r.recent[r.n%len(r.recent)] = t
	r.n++
}

// join follows texts that are put together.
func (r *scriptReader) join(t token) {
	adding := r.value.open && r.last(1).kind == js.AddToken
	switch {
	case t.kind == js.StringToken:
		content, offset := unquoted(t)
		if len(r.script.Digests) < maxDigests {
			r.script.Digests = append(r.script.Digests, digests(content)...)
		}
		if telling[content] {
			r.script.Words[content] = true
		}
		if _, ok := r.script.Says[content]; moments[content] && !ok {
			r.script.Says[content] = offset
		}
		r.operand(content, adding, true, offset, len(t.text)-2)
	case t.kind == js.TemplateStartToken, t.kind == js.TemplateMiddleToken, t.kind == js.TemplateEndToken:
		r.template(t, adding)
	case js.IsIdentifier(t.kind):
		known, ok := r.consts[string(t.text)]
		if !ok || known == "\x00" || r.last(1).kind == js.DotToken {
			known = star
		}
		r.operand(known, adding, false, 0, 0)
	case t.kind == js.AddToken && r.value.open:
	case t.kind == js.DotToken && r.value.open && !r.value.literal:
	case (t.kind == js.CloseParenToken || t.kind == js.CloseBracketToken || js.IsNumeric(t.kind)) && !r.value.literal:
		r.flush()
		r.operand(star, false, false, 0, 0)
	default:
		r.flush()
	}
}

func (r *scriptReader) operand(text string, adding, literal bool, offset, length int) {
	if !adding {
		r.flush()
		r.value = &joined{open: true}
		for i := range r.value.context {
			r.value.context[i] = r.last(i + 1)
		}
		r.value.call = r.called
	}
	v := r.value
	if len(v.text) > maxTarget || text == star && bytes.HasSuffix(v.text, []byte(star)) {
		return
	}
	v.text = append(v.text, text...)
	v.parts++
	v.tail = 0
	if literal {
		v.literal, v.at, v.len = true, offset, length
		if len(text) == length && !strings.Contains(text, "\\") { // no escapes
			v.tail = length
		}
	}
}

// template follows the parts of a template literal; what is between them is not known, but may name files by itself.
func (r *scriptReader) template(t token, adding bool) {
	content := strings.TrimSuffix(strings.TrimPrefix(string(t.text), "`"), "`")
	content = strings.TrimSuffix(strings.TrimPrefix(content, "}"), "${")
	switch t.kind {
	case js.TemplateStartToken:
		r.operand(content, adding, content != "", t.at+1, len(content))
		r.operand(star, true, false, 0, 0)
		r.outer = append(r.outer, r.value)
		r.value = &joined{}
	case js.TemplateMiddleToken, js.TemplateEndToken:
		if len(r.outer) == 0 {
			return
		}
		r.flush()
		last := len(r.outer) - 1
		r.value = r.outer[last]
		r.operand(content, true, content != "", t.at+1, len(content))
		if t.kind == js.TemplateMiddleToken {
			r.operand(star, true, false, 0, 0)
			r.value = &joined{}
		} else {
			r.outer = r.outer[:last]
		}
	}
}

func unquoted(t token) (content string, offset int) {
	if len(t.text) < 2 {
		return "", t.at
	}
	s := string(t.text[1 : len(t.text)-1])
	if strings.IndexByte(s, '\\') >= 0 {
		s = strings.NewReplacer(`\/`, "/", `\'`, "'", `\"`, `"`, `\\`, `\`, `\u002F`, "/", `\u002f`, "/", `\x2F`, "/", `\x2f`, "/").Replace(s)
	}
	return s, t.at + 1
}

// flush ends a joined text: it may be the value of a constant, and the name of a file.
func (r *scriptReader) flush() {
	v := r.value
	if !v.open {
		return
	}
	v.open = false
	if !v.literal {
		return
	}
	text := string(v.text)
	r.remember(v.context, text)
	if args := r.script.Args[v.call]; v.call != "" && len(args) < maxArgs && len(text) <= maxTarget {
		r.script.Args[v.call] = append(args, text)
	}
	link, ok := r.name(v, text)
	link.Target, link.Offset, link.Len, link.Tail, link.Whole = text, v.at, v.len, v.tail, v.parts == 1
	if v.imported() && link.Whole && !isRelative(text) && !strings.HasPrefix(text, "data:") && text != "" && len(r.script.Bare) < maxLinks {
		link.Line, link.Column = r.lines.place(v.at)
		r.script.Bare = append(r.script.Bare, link)
	}
	if !ok || len(r.script.Links) >= maxLinks {
		return
	}
	if link.Certainty == Possible {
		if first, ok := r.seen[text]; ok {
			r.script.Links[first].again(link)
			return
		}
		r.seen[text] = len(r.script.Links)
	}
	link.Line, link.Column = r.lines.place(v.at)
	r.script.Links = append(r.script.Links, link)
	if v.isURL() && link.Certainty != Possible {
		r.aside = &r.script.Links[len(r.script.Links)-1]
	}
}

// again notes another place where the text of a link stands. A place where it is written in another way can't be
// changed with the first.
func (l *Link) again(o Link) {
	switch {
	case o.Tail != l.Tail || o.Len != l.Len || o.Whole != l.Whole:
		l.Tail, l.Whole = 0, false
	case len(l.Again) < maxAgain:
		l.Again = append(l.Again, o.Offset)
	default:
		l.Tail, l.Whole = 0, false
	}
}

// remember notes the value of a constant or property.
func (r *scriptReader) remember(context [5]token, text string) {
	if k := context[0].kind; k != js.EqToken && k != js.ColonToken || len(text) > maxTarget || strings.Contains(text, star) || len(r.consts) >= maxConst {
		return
	}
	name := string(context[1].text)
	if context[1].kind == js.StringToken || !js.IsIdentifierName(context[1].kind) {
		return
	}
	if before, ok := r.consts[name]; ok && before != text {
		text = "\x00"
	}
	r.consts[name] = text
}

func (r *scriptReader) word(t token) {
	if string(t.text) == "resolve" && string(r.last(2).text) == "meta" && r.last(4).kind == js.ImportToken {
		r.words[resolved] = true
	}
	if telling[string(t.text)] {
		r.script.Words[string(t.text)] = true
	}
}

// ordinary are globals whose calls say nothing about a portal.
var ordinary = map[string]bool{
	"this": true, "window": true, "self": true, "globalThis": true, "document": true, "console": true, "Math": true, "Object": true, "Array": true,
	"JSON": true, "Number": true, "String": true, "Promise": true, "Reflect": true, "Symbol": true, "Date": true, "performance": true, "navigator": true,
	"WebAssembly": true, "Atomics": true, "super": true, "arguments": true, "module": true, "exports": true, "process": true, "Buffer": true,
}

// call notes a call by a dotted name, such as Portal.score.submit( or window.Portal.ready(.
func (r *scriptReader) call() {
	var parts []string
	at := 0
	for i := 1; i < len(r.recent); i += 2 {
		t := r.last(i)
		if !js.IsIdentifierName(t.kind) {
			return
		}
		parts, at = append(parts, string(t.text)), t.at
		if dot := r.last(i + 1).kind; dot != js.DotToken && dot != js.OptChainToken {
			break
		}
	}
	for i := len(parts) - 1; i > 0 && (parts[i] == "window" || parts[i] == "globalThis" || parts[i] == "self" || parts[i] == "parent" || parts[i] == "top"); i-- {
		parts = parts[:i]
	}
	if len(parts) < 2 || len(parts[len(parts)-1]) < 3 || ordinary[parts[len(parts)-1]] || len(r.script.Calls) >= maxCalls {
		return
	}
	var name bytes.Buffer
	for i := len(parts) - 1; i >= 0; i-- {
		name.WriteString(parts[i])
		if i > 0 {
			name.WriteByte('.')
		}
	}
	r.called = name.String()
	if _, ok := r.script.Calls[r.called]; !ok {
		r.script.Calls[r.called] = at
	}
}
