package prose

import (
	"errors"
	"fmt"
	"html"
	"regexp"
	"slices"
	"strings"

	"github.com/yuin/goldmark"
	"github.com/yuin/goldmark/ast"
	"github.com/yuin/goldmark/extension"
	table "github.com/yuin/goldmark/extension/ast"
	"github.com/yuin/goldmark/text"
	"github.com/yuin/goldmark/util"
)

// Bounds on what is read: beyond them the parser's time grows with the square of the length.
const (
	mostOpened = 100   // quotes and lists that one line opens
	mostLinks  = 5_000 // beginnings of links
	mostBars   = 2_000 // between the cells of one line
)

// deepest is how deep blocks may stand in blocks; deeper ones are left out.
const deepest = 40

// Read reads a text. lost names what it holds and no page of a portal has a place for.
func Read(source string) (blocks []*Node, lost []string, err error) {
	source = clean(source)
	if err := bounded(source); err != nil {
		return nil, nil, err
	}
	r := &reader{source: []byte(source)}
	parser := goldmark.New(goldmark.WithExtensions(extension.GFM)).Parser()
	return r.blocks(parser.Parse(text.NewReader(r.source))), r.lost, nil
}

func bounded(source string) error {
	if strings.Count(source, "](") > mostLinks {
		return fmt.Errorf("it has more than %d links", mostLinks)
	}
	number := 0
	for line := range strings.Lines(source) {
		if number++; opened(line) > mostOpened {
			return fmt.Errorf("line %d opens more than %d quotes or lists", number, mostOpened)
		}
		if strings.Count(line, "|") > mostBars {
			return fmt.Errorf("line %d has more than %d bars", number, mostBars)
		}
	}
	return nil
}

// opened counts the marks of quotes and lists at the beginning of a line.
func opened(line string) (n int) {
	for {
		line = strings.TrimLeft(line, " \t")
		digits := len(line) - len(strings.TrimLeft(line, "0123456789"))
		switch {
		case line == "":
			return n
		case digits > 0 && digits < 10 && len(line) > digits && (line[digits] == '.' || line[digits] == ')'):
			line = line[digits+1:]
		case strings.ContainsRune(">-+*", rune(line[0])):
			line = line[1:]
		default:
			return n
		}
		n++
	}
}

type reader struct {
	source []byte
	lost   []string
	depth  int
}

func (r *reader) lose(what string) {
	if !slices.Contains(r.lost, what) {
		r.lost = append(r.lost, what)
	}
}

// deeper does something one level further down, unless that is too deep.
func (r *reader) deeper(do func() []*Node) []*Node {
	if r.depth++; r.depth > 2*deepest {
		r.lose("what stands deeper than 40 quotes or lists")
		r.depth--
		return nil
	}
	defer func() { r.depth-- }()
	return do()
}

func (r *reader) blocks(n ast.Node) []*Node {
	return r.deeper(func() (list []*Node) {
		for c := n.FirstChild(); c != nil; c = c.NextSibling() {
			if b := r.block(c); b != nil {
				list = append(list, b)
			}
		}
		return list
	})
}

func (r *reader) block(n ast.Node) *Node {
	switch n := n.(type) {
	case *ast.Heading:
		h := &Node{Kind: Heading, Level: n.Level, In: r.line(n)}
		for _, c := range h.In {
			if c.Kind == Break {
				c.Kind, c.Text = Words, " "
			}
		}
		h.In = tidy(h.In)
		return h
	case *ast.Paragraph:
		return filled(&Node{Kind: Paragraph, In: r.line(n)})
	case *ast.TextBlock:
		return filled(&Node{Kind: Line, In: r.line(n)})
	case *ast.Blockquote:
		return &Node{Kind: Quote, In: r.blocks(n)}
	case *ast.List:
		return r.list(n)
	case *ast.FencedCodeBlock, *ast.CodeBlock:
		code := clean(string(n.Lines().Value(r.source)))
		if r.depth > 1 {
			code = untabbed(code)
		}
		return &Node{Kind: Block, Text: code}
	case *ast.ThematicBreak:
		return &Node{Kind: Rule}
	case *table.Table:
		return r.table(n)
	case *ast.HTMLBlock:
		r.lose("HTML, which is left out")
	}
	return nil
}

func filled(n *Node) *Node {
	if len(n.In) == 0 {
		return nil
	}
	return n
}

// untabbed has spaces in place of tabs, which mean something else where a line begins elsewhere.
func untabbed(code string) string {
	var b strings.Builder
	at := 0
	for _, c := range code {
		switch c {
		case '\t':
			for b.WriteByte(' '); (at+1)%4 != 0; at++ {
				b.WriteByte(' ')
			}
		case '\n':
			at = -1
			b.WriteRune(c)
		default:
			b.WriteRune(c)
		}
		at++
	}
	return b.String()
}

func (r *reader) list(n *ast.List) *Node {
	l := &Node{Kind: List, Ordered: n.IsOrdered(), First: n.Start, Loose: !n.IsTight}
	for c := n.FirstChild(); c != nil; c = c.NextSibling() {
		item := &Node{Kind: Item}
		if first := c.FirstChild(); first != nil && first.FirstChild() != nil {
			if box, ok := first.FirstChild().(*table.TaskCheckBox); ok {
				item.Task = OpenTask
				if box.IsChecked {
					item.Task = DoneTask
				}
			}
		}
		item.In = r.blocks(c)
		l.In = append(l.In, item)
	}
	if r.depth > 1 { // marks with nothing behind them, of which readers make different things
		l.In = slices.DeleteFunc(l.In, func(item *Node) bool { return len(item.In) == 0 })
		if len(l.In) == 0 {
			return nil
		}
	}
	l.settle()
	return l
}

func (r *reader) table(n *table.Table) *Node {
	t := &Node{Kind: Table}
	for c := n.FirstChild(); c != nil; c = c.NextSibling() {
		row := &Node{Kind: Row}
		for cell := c.FirstChild(); cell != nil; cell = cell.NextSibling() {
			row.In = append(row.In, &Node{Kind: Cell, In: r.line(cell)})
		}
		t.In = append(t.In, row)
	}
	return t
}

// line is what stands in a block of words. Marks inside of others of their kind stay where Markdown has a way to write them.
func (r *reader) line(n ast.Node) []*Node {
	in := tidy(trim(tidy(r.inlines(n))))
	if w := (&lineWriter{}); w.stuck(in) {
		return flat(in)
	}
	return in
}

func (r *reader) inlines(n ast.Node) []*Node {
	return r.deeper(func() (list []*Node) {
		var raw []byte // words that the parser took apart, where a bracket might have begun a link
		flush := func() {
			if len(raw) > 0 {
				list = append(list, &Node{Kind: Words, Text: unescape(raw)})
				raw = nil
			}
		}
		for c := n.FirstChild(); c != nil; c = c.NextSibling() {
			t, words := c.(*ast.Text)
			if !words {
				flush()
				list = append(list, r.inline(c)...)
				continue
			}
			raw = append(raw, t.Segment.Value(r.source)...)
			switch {
			case t.HardLineBreak():
				flush()
				list = append(list, &Node{Kind: Break})
			case t.SoftLineBreak():
				raw = append(raw, ' ')
			}
		}
		flush()
		return tidy(list)
	})
}

func (r *reader) inline(n ast.Node) []*Node {
	switch n := n.(type) {
	case *ast.String:
		return []*Node{Of(string(n.Value))}
	case *ast.Emphasis:
		kind := Emphasis
		if n.Level == 2 {
			kind = Strong
		}
		return []*Node{{Kind: kind, In: r.inlines(n)}}
	case *table.Strikethrough:
		return []*Node{{Kind: Struck, In: r.inlines(n)}}
	case *ast.CodeSpan:
		return []*Node{{Kind: Code, Text: clean(strings.ReplaceAll(r.code(n), "\n", " "))}}
	case *ast.Link:
		return r.link(unescape(n.Destination), r.inlines(n))
	case *ast.AutoLink:
		address := string(n.URL(r.source))
		if n.AutoLinkType == ast.AutoLinkEmail && !strings.HasPrefix(address, "mailto:") {
			address = "mailto:" + address
		}
		return r.link(address, []*Node{Of(string(n.Label(r.source)))})
	case *ast.Image:
		r.lose("a picture in the text, which portals take apart from it")
		return r.inlines(n)
	case *ast.RawHTML:
		tag := strings.ToLower(string(n.Segments.Value(r.source)))
		if strings.HasPrefix(tag, "<br") {
			return []*Node{{Kind: Break}}
		}
		r.lose("HTML, which is left out")
	}
	return nil
}

// code is that of a span.
func (r *reader) code(n ast.Node) string {
	var b strings.Builder
	for c := n.FirstChild(); c != nil; c = c.NextSibling() {
		if t, ok := c.(*ast.Text); ok {
			b.Write(t.Segment.Value(r.source))
			if t.SoftLineBreak() {
				b.WriteByte(' ')
			}
		}
	}
	return b.String()
}

// link keeps links that a page of a portal can have; of others only the words stay.
func (r *reader) link(address string, inner []*Node) []*Node {
	to, err := webAddress(address)
	if err != nil {
		r.lose("a link that does not lead to the web")
		return inner
	}
	return []*Node{{Kind: Link, To: to, In: inner}}
}

var errNoWeb = errors.New("it does not lead to the web")

// webAddress is an address in which no form of text finds a mark of its own.
func webAddress(address string) (string, error) {
	low := strings.ToLower(address)
	if !strings.HasPrefix(low, "https://") && !strings.HasPrefix(low, "http://") && !strings.HasPrefix(low, "mailto:") {
		return "", errNoWeb
	}
	var b strings.Builder
	for _, c := range []byte(address) {
		if c <= ' ' || strings.IndexByte("<>\"'[]()`\\|{}^", c) >= 0 {
			fmt.Fprintf(&b, "%%%02X", c)
		} else {
			b.WriteByte(c)
		}
	}
	return b.String(), nil
}

// entity is one that CommonMark knows: others than in HTML, it must end.
var entity = regexp.MustCompile(`&(?:#[0-9]{1,7}|#[xX][0-9a-fA-F]{1,6}|[A-Za-z][A-Za-z0-9]*);`)

// unescape replaces the escapes and entities of CommonMark (sections 2.4 and 2.5) by what they stand for, and drops controls.
func unescape(raw []byte) string {
	var b strings.Builder
	begin := 0
	plain := func(part []byte) { b.WriteString(entity.ReplaceAllStringFunc(string(part), html.UnescapeString)) }
	for i := 0; i+1 < len(raw); i++ {
		if raw[i] != '\\' || !util.IsPunct(raw[i+1]) {
			continue
		}
		plain(raw[begin:i])
		b.WriteByte(raw[i+1])
		i++
		begin = i + 1
	}
	plain(raw[begin:])
	return clean(b.String())
}
