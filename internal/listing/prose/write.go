package prose

import "strings"

// A Form is a way to mark up text. Its methods get inner parts that are marked up already, but for those that say otherwise.
type Form interface {
	text(raw string) string // raw words, in which nothing may be taken for markup
	strong(inner string) string
	emphasis(inner string) string
	struck(inner string) string
	code(raw string) string
	key(raw string) string // a key of a keyboard
	link(address, inner string) string
	lineBreak() string
	heading(level int, inner string) string
	paragraph(inner string) string
	tight(inner string) string // a paragraph without space around it
	quote(inner string) string
	list(items []string, n *Node, other bool) string // other than the list before it, or around it
	task(done bool) string                           // before an item
	pre(raw string) string
	rule() string
	table(heads []string, rows [][]string) string
	between() string // two blocks
}

// Forms are the ways to mark up text, by the names that rulebooks use.
func Forms(name string) Form {
	switch name {
	case "html":
		return markup{}
	case "bbcode":
		return bbcode{}
	case "markdown":
		return markdown{}
	}
	return plain{}
}

// Write writes blocks in a form.
func Write(blocks []*Node, f Form) string {
	if h, ok := f.(markup); ok {
		h.sided, h.highest = rightToLeft(Plain(blocks)), highest(blocks)
		f = h
	}
	return writeBlocks(blocks, f, true, 0)
}

// highest is the level of the highest heading; 1 where there is none.
func highest(blocks []*Node) int {
	least := 7
	for _, n := range blocks {
		each(n, func(n *Node) {
			if n.Kind == Heading {
				least = min(least, n.Level)
			}
		})
	}
	if least > 6 {
		return 1
	}
	return least
}

// Text writes bare words in a form, as they stand in a line.
func Text(raw string, f Form) string { return f.text(clean(raw)) }

// writeBlocks writes what stands in so many lists.
func writeBlocks(blocks []*Node, f Form, loose bool, lists int) string {
	var list []string
	for i, n := range blocks {
		list = append(list, writeBlock(n, f, turns(blocks[:i], n.Ordered) != (lists > 0), lists))
	}
	if loose {
		return strings.Join(list, f.between())
	}
	return strings.Join(list, "\n")
}

// turns reports whether a list is to differ from the first of those right before it.
func turns(before []*Node, ordered bool) bool {
	n := 0
	for i := len(before) - 1; i >= 0 && before[i].Kind == List && before[i].Ordered == ordered; i-- {
		n++
	}
	return n%2 == 1
}

func writeBlock(n *Node, f Form, other bool, lists int) string {
	switch n.Kind {
	case Heading:
		return f.heading(n.Level, writeLine(n.In, f))
	case Line:
		return f.tight(writeLine(n.In, f))
	case Quote:
		return f.quote(writeBlocks(n.In, f, true, lists))
	case List:
		var items []string
		for _, item := range n.In {
			text := writeBlocks(item.In, f, n.Loose, lists+1)
			if item.Task != NoTask {
				text = f.task(item.Task == DoneTask) + text
			}
			items = append(items, text)
		}
		return f.list(items, n, other)
	case Block:
		return f.pre(n.Text)
	case Rule:
		return f.rule()
	case Table:
		return writeTable(n, f)
	}
	return f.paragraph(writeLine(n.In, f))
}

func writeTable(n *Node, f Form) string {
	rows := make([][]string, len(n.In))
	for i, r := range n.In {
		for _, c := range r.In {
			rows[i] = append(rows[i], writeLine(c.In, f))
		}
		for len(rows[i]) < len(rows[0]) {
			rows[i] = append(rows[i], "")
		}
	}
	return f.table(rows[0], rows[1:])
}

// writeLine writes what stands in a line.
func writeLine(in []*Node, f Form) string {
	if m, ok := f.(markdown); ok {
		return m.line(in)
	}
	var b strings.Builder
	for _, n := range in {
		inner := ""
		if len(n.In) > 0 {
			inner = writeLine(n.In, f)
		}
		b.WriteString(writeInline(n, f, inner))
	}
	return b.String()
}

func writeInline(n *Node, f Form, inner string) string {
	switch n.Kind {
	case Strong:
		return f.strong(inner)
	case Emphasis:
		return f.emphasis(inner)
	case Struck:
		return f.struck(inner)
	case Code:
		return f.code(n.Text)
	case Key:
		return f.key(n.Text)
	case Link:
		return f.link(n.To, inner)
	case Break:
		return f.lineBreak()
	}
	return f.text(n.Text)
}

// Laid names what a form has no way to show as it is, and writes otherwise.
func Laid(blocks []*Node, f Form) (list []string) {
	if _, bare := f.(plain); !bare {
		return nil
	}
	if Number(blocks, Table) > 0 {
		list = append(list, "a table, which becomes lines, since the portal takes plain text")
	}
	if Number(blocks, Struck) > 0 {
		list = append(list, "words that are struck through, which plain text can't show")
	}
	return list
}
