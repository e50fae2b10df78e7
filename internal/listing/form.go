package listing

import (
	"strings"

	"github.com/yuin/goldmark"
	"github.com/yuin/goldmark/ast"
	"github.com/yuin/goldmark/text"
)

// A form is a way to mark up text. Its methods get inner parts that are marked up already, but for those that say otherwise.
type form interface {
	text(raw string) string // raw words, in which nothing may be taken for markup
	strong(inner string) string
	emphasis(inner string) string
	code(raw string) string
	key(raw string) string // a key of a keyboard
	link(address, inner string) string
	lineBreak() string
	heading(level int, inner string) string
	paragraph(inner string) string
	tight(inner string) string // a paragraph of a list without space between items
	quote(inner string) string
	list(items []string, ordered bool, first int) string
	pre(raw string) string
	rule() string
	table(heads []string, rows [][]string) string
	between() string // two blocks
}

// forms are the ways that rulebooks name.
var forms = map[string]form{"plain": plain{}, "html": markup{}, "bbcode": bbcode{}, "markdown": markdown{}}

// A writer writes a document of CommonMark in a form.
type writer struct {
	form   form
	source []byte
	lost   []string // what the form, or a portal's page, has no place for
	depth  int
}

// deepest is how deep blocks may stand in blocks; deeper ones are left out.
const deepest = 40

// render writes a document, block by block.
func render(source string, f form) (blocks, lost []string) {
	w := &writer{form: f, source: []byte(clean(source))}
	document := goldmark.DefaultParser().Parse(text.NewReader(w.source))
	for n := document.FirstChild(); n != nil; n = n.NextSibling() {
		if b := w.block(n); strings.TrimSpace(b) != "" {
			blocks = append(blocks, b)
		}
	}
	return blocks, w.lost
}

func (w *writer) lose(what string) {
	for _, l := range w.lost {
		if l == what {
			return
		}
	}
	w.lost = append(w.lost, what)
}

func (w *writer) blocks(n ast.Node) string {
	if w.depth++; w.depth > deepest {
		w.lose("what stands deeper than 40 quotes or lists")
		w.depth--
		return ""
	}
	defer func() { w.depth-- }()
	var list []string
	for c := n.FirstChild(); c != nil; c = c.NextSibling() {
		if b := w.block(c); b != "" {
			list = append(list, b)
		}
	}
	return strings.Join(list, w.form.between())
}

func (w *writer) block(n ast.Node) string {
	switch n := n.(type) {
	case *ast.Heading:
		return w.form.heading(n.Level, w.inlines(n))
	case *ast.Paragraph:
		return w.form.paragraph(w.inlines(n))
	case *ast.TextBlock:
		return w.form.tight(w.inlines(n))
	case *ast.Blockquote:
		return w.form.quote(w.blocks(n))
	case *ast.List:
		var items []string
		for c := n.FirstChild(); c != nil; c = c.NextSibling() {
			items = append(items, w.blocks(c))
		}
		return w.form.list(items, n.IsOrdered(), n.Start)
	case *ast.FencedCodeBlock, *ast.CodeBlock:
		return w.form.pre(string(n.Lines().Value(w.source)))
	case *ast.ThematicBreak:
		return w.form.rule()
	case *ast.HTMLBlock:
		w.lose("HTML, which is left out")
	}
	return ""
}

func (w *writer) inlines(n ast.Node) string {
	if w.depth++; w.depth > 2*deepest {
		w.lose("what stands deeper than 40 quotes or lists")
		w.depth--
		return ""
	}
	defer func() { w.depth-- }()
	var b strings.Builder
	var raw []byte // words that the parser took apart, where a bracket might have begun a link
	flush := func() {
		if len(raw) > 0 {
			b.WriteString(w.form.text(unescape(raw)))
			raw = nil
		}
	}
	for c := n.FirstChild(); c != nil; c = c.NextSibling() {
		t, words := c.(*ast.Text)
		if !words {
			flush()
			b.WriteString(w.inline(c))
			continue
		}
		raw = append(raw, t.Segment.Value(w.source)...)
		if t.HardLineBreak() {
			flush()
			b.WriteString(w.form.lineBreak())
		} else if t.SoftLineBreak() {
			raw = append(raw, ' ')
		}
	}
	flush()
	return b.String()
}

func (w *writer) inline(n ast.Node) string {
	switch n := n.(type) {
	case *ast.String:
		return w.form.text(string(n.Value))
	case *ast.Emphasis:
		if n.Level == 2 {
			return w.form.strong(w.inlines(n))
		}
		return w.form.emphasis(w.inlines(n))
	case *ast.CodeSpan:
		return w.form.code(strings.ReplaceAll(w.words(n), "\n", " "))
	case *ast.Link:
		return w.link(string(n.Destination), w.inlines(n))
	case *ast.AutoLink:
		address := string(n.URL(w.source))
		if n.AutoLinkType == ast.AutoLinkEmail && !strings.HasPrefix(address, "mailto:") {
			address = "mailto:" + address
		}
		return w.link(address, w.form.text(string(n.Label(w.source))))
	case *ast.Image:
		w.lose("a picture in the text, which portals take apart from it")
		return w.inlines(n)
	case *ast.RawHTML:
		w.lose("HTML, which is left out")
	}
	return ""
}

// words are the plain words below a node.
func (w *writer) words(n ast.Node) string {
	var b strings.Builder
	for c := n.FirstChild(); c != nil; c = c.NextSibling() {
		if t, ok := c.(*ast.Text); ok {
			b.Write(t.Segment.Value(w.source))
			if t.SoftLineBreak() {
				b.WriteByte(' ')
			}
		}
	}
	return b.String()
}

// link keeps links that a page of a portal can have; of others only the words stay.
func (w *writer) link(address, inner string) string {
	low := strings.ToLower(address)
	for _, scheme := range []string{"https://", "http://", "mailto:"} {
		if strings.HasPrefix(low, scheme) && !strings.ContainsAny(address, " \t\r\n<>\"'[]()`\\") {
			return w.form.link(address, inner)
		}
	}
	w.lose("a link that does not lead to the web")
	return inner
}
