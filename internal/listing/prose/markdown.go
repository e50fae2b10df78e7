package prose

import (
	"fmt"
	"regexp"
	"strings"
	"unicode"
	"unicode/utf8"
)

// markdown is CommonMark with tables, tasks and struck words of GFM.
type markdown struct{}

var (
	signs = regexp.MustCompile("([\\\\`*_\\[\\]<&~|])")
	bare  = regexp.MustCompile(`(?i)(https?|ftp)(:)(//)|(www)(\.)()|()(@)()`) // what becomes a link without any marks
	begin = regexp.MustCompile(`^(\s*)([#>+=-]|:-|\d{1,9}[.)])`)
)

// text escapes what could mean something, so that the same words come out of it.
func (markdown) text(raw string) string {
	raw = signs.ReplaceAllString(raw, `\$1`)
	raw = bare.ReplaceAllString(raw, `$1$4$7\$2$5$8$3$6$9`)
	raw = strings.NewReplacer("\n", "&#10;", "\t", "&#9;").Replace(raw)
	if words, ok := strings.CutSuffix(raw, "!"); ok { // before a link it would make a picture of it
		raw = words + `\!`
	}
	return begin.ReplaceAllStringFunc(raw, func(m string) string { return m[:len(m)-1] + `\` + m[len(m)-1:] })
}

func (markdown) strong(inner string) string   { return "**" + inner + "**" }
func (markdown) emphasis(inner string) string { return "*" + inner + "*" }
func (markdown) struck(inner string) string   { return "~~" + inner + "~~" }
func (f markdown) key(raw string) string      { return f.code(raw) }
func (markdown) lineBreak() string            { return "\\\n" }
func (markdown) task(done bool) string {
	if done {
		return "[x] "
	}
	return "[ ] "
}

// numbered is a line's start that was put together of parts, and would begin a list.
var numbered = regexp.MustCompile(`(?m)^(\d{1,9})([.)])`)

func (markdown) paragraph(inner string) string { return numbered.ReplaceAllString(inner, `$1\$2`) }
func (f markdown) tight(inner string) string   { return f.paragraph(inner) }

func (markdown) heading(level int, inner string) string {
	if words, ok := strings.CutSuffix(inner, "#"); ok && (len(words)-len(strings.TrimRight(words, `\`)))%2 == 0 {
		inner = words + `\#` // marks at the end would be taken for the heading's own
	}
	return strings.TrimRight(strings.Repeat("#", level)+" "+inner, " ")
}

func (markdown) quote(inner string) string {
	lines := strings.Split(inner, "\n")
	for i, l := range lines {
		if lines[i] = "> " + l; l == "" {
			lines[i] = ">"
		}
	}
	return strings.Join(lines, "\n")
}

func (markdown) pre(raw string) string {
	fence := "```"
	for strings.Contains(raw, fence) {
		fence += "`"
	}
	if raw != "" && !strings.HasSuffix(raw, "\n") {
		raw += "\n"
	}
	return fence + "\n" + raw + fence
}
func (markdown) rule() string    { return "***" }
func (markdown) between() string { return "\n\n" }

func (markdown) code(raw string) string {
	if raw == "" {
		return ""
	}
	ticks := "`"
	for runs(raw, ticks) {
		ticks += "`"
	}
	spaced := strings.HasPrefix(raw, " ") && strings.HasSuffix(raw, " ") && strings.Trim(raw, " ") != ""
	if strings.HasPrefix(raw, "`") || strings.HasSuffix(raw, "`") || spaced {
		raw = " " + raw + " "
	}
	return ticks + raw + ticks
}

// runs reports whether there is a run of exactly these backticks.
func runs(raw, ticks string) bool {
	for _, run := range strings.FieldsFunc(raw, func(r rune) bool { return r != '`' }) {
		if run == ticks {
			return true
		}
	}
	return false
}

func (markdown) link(address, inner string) string {
	return "[" + inner + "](<" + strings.ReplaceAll(address, "&", "&amp;") + ">)"
}

func (markdown) list(items []string, n *Node, other bool) string {
	if other {
		return marked(items, n, "+ ", ") ")
	}
	return marked(items, n, "- ", ". ")
}

// inCode is a bar that would end a cell.
var inCode = regexp.MustCompile(`(^|[^\\])\|`)

func (markdown) table(heads []string, rows [][]string) string {
	line := func(cells []string) string {
		line := "|"
		for _, c := range cells {
			line += " " + inCode.ReplaceAllString(c, `$1\|`) + " |"
		}
		return line
	}
	lines := []string{line(heads), "|" + strings.Repeat(" --- |", len(heads))}
	for _, r := range rows {
		lines = append(lines, line(r))
	}
	return strings.Join(lines, "\n")
}

// A piece is a part of a line: words that can still be written in several ways, a mark around others, or what is written already.
type piece struct {
	done        string
	words       string
	mark        byte // of a run around words; else 0
	ends        bool // it is the run behind them
	first, last bool // the first or last letter is to be written as its number
}

// line writes what stands in a line. Marks around words are only marks where the letters around them allow it (CommonMark 0.31, section
// 6.2); where they don't, a letter is written by its number, which counts as a sign.
func (f markdown) line(in []*Node) string {
	w := &lineWriter{f: f}
	w.nodes(in, around{})
	list := w.list
	for i := 1; i < len(list); i++ {
		list[i-1].last = list[i-1].last || list[i].done == f.lineBreak() && strings.HasSuffix(list[i-1].words, `\`)
	}
	for range 3 { // a letter by its number may make a sign of what another run has beside it
		for i := range list {
			if list[i].mark != 0 {
				w.settle(i)
			}
		}
	}
	var b strings.Builder
	for _, p := range list {
		if p.words == "" {
			b.WriteString(p.done)
			continue
		}
		words := p.words
		var head, tail string
		if p.first {
			r, n := utf8.DecodeRuneInString(words)
			head, words = fmt.Sprintf("&#%d;", r), words[n:]
		}
		if p.last && words != "" {
			r, n := utf8.DecodeLastRuneInString(words)
			words, tail = words[:len(words)-n], fmt.Sprintf("&#%d;", r)
		}
		b.WriteString(head + f.text(words) + tail)
	}
	return b.String()
}

type lineWriter struct {
	f       markdown
	list    []piece
	noMarks bool // some marks can't be told from others
}

// around are the marks that a node stands in: that of its parent, 0 for none, and those of each kind.
type around struct {
	parent                   byte
	emphasis, strong, struck string
}

// stuck reports whether marks can't be written so that they are told from each other.
func (w *lineWriter) stuck(in []*Node) bool {
	w.nodes(in, around{})
	return w.noMarks
}

func (w *lineWriter) nodes(in []*Node, at around) {
	for i, n := range in {
		switch n.Kind {
		case Words:
			w.list = append(w.list, piece{words: n.Text})
		case Strong, Emphasis, Struck:
			last := i == len(in)-1
			inner, run := at, ""
			switch n.Kind {
			case Strong:
				inner.parent = w.mark(at.strong, last, at.parent)
				inner.strong += string(inner.parent)
				run = strings.Repeat(string(inner.parent), 2)
			case Emphasis:
				inner.parent = w.mark(at.emphasis, last, at.parent)
				inner.emphasis += string(inner.parent)
				run = string(inner.parent)
			default:
				w.noMarks = w.noMarks || at.struck != ""
				inner.struck, inner.parent, run = "~", '~', "~~"
			}
			w.list = append(w.list, piece{done: run, mark: inner.parent})
			w.nodes(n.In, inner)
			w.list = append(w.list, piece{done: run, mark: inner.parent, ends: true})
		default:
			inner := ""
			if n.Kind == Link {
				of := &lineWriter{}
				w.noMarks = w.noMarks || of.stuck(n.In)
				inner = w.f.line(n.In)
			}
			w.list = append(w.list, piece{done: writeInline(n, w.f, inner)})
		}
	}
}

// mark chooses one that differs from those of its kind around it, and touches none like it: before it, or behind it where its parent's
// ends.
func (w *lineWriter) mark(outer string, last bool, parent byte) byte {
	for _, c := range []byte{'*', '_'} {
		touches := len(w.list) > 0 && w.list[len(w.list)-1].mark == c
		if strings.IndexByte(outer, c) < 0 && !touches && (!last || parent != c) {
			return c
		}
	}
	w.noMarks = true
	return '*'
}

// Classes of what stands beside a run of marks.
const (
	space = iota
	sign
	letter
)

func class(r rune) int {
	switch {
	case unicode.IsSpace(r):
		return space
	case unicode.IsPunct(r) || unicode.IsSymbol(r):
		return sign
	}
	return letter
}

// before is the class of what stands before a piece.
func (w *lineWriter) before(i int) int {
	if i == 0 {
		return space
	}
	p := w.list[i-1]
	if p.words == "" {
		if strings.HasSuffix(p.done, "\n") {
			return space
		}
		return sign
	}
	r, n := utf8.DecodeLastRuneInString(p.words)
	if p.last || p.first && n == len(p.words) || r == '\n' || r == '\t' {
		return sign
	}
	return class(r)
}

// behind is the class of what stands behind a piece.
func (w *lineWriter) behind(i int) int {
	if i+1 == len(w.list) {
		return space
	}
	p := w.list[i+1]
	if p.words == "" || p.first {
		return sign
	}
	r, n := utf8.DecodeRuneInString(p.words)
	if p.last && n == len(p.words) || r == '\n' || r == '\t' {
		return sign
	}
	return class(r)
}

func (w *lineWriter) settle(i int) {
	mark := string(w.list[i].mark)
	if i > 0 && strings.HasSuffix(w.list[i-1].words, mark) {
		w.list[i-1].last = true // readers differ in whether an escaped mark belongs to a run
	}
	if i+1 < len(w.list) && strings.HasPrefix(w.list[i+1].words, mark) {
		w.list[i+1].first = true
	}
	if w.list[i].ends {
		w.closes(i)
		return
	}
	if w.behind(i) == space && i+1 < len(w.list) {
		w.list[i+1].first = true
	}
	if w.before(i) == letter && (w.behind(i) == sign || w.list[i].mark == '_') {
		w.list[i-1].last = true
	}
}

func (w *lineWriter) closes(i int) {
	if w.before(i) == space && i > 0 {
		w.list[i-1].last = true
	}
	if w.behind(i) == letter && (w.before(i) == sign || w.list[i].mark == '_') {
		w.list[i+1].first = true
	}
}
