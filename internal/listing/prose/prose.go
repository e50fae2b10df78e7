// Package prose is texts with markup: read once, from CommonMark with the extensions of GFM, cut where a portal wants less, and written in
// the form that it takes.
package prose

import (
	"slices"
	"strings"
)

// A Kind says what a node is.
type Kind uint8

// Blocks, and what stands in lines.
const (
	Paragraph Kind = iota
	Line           // a paragraph without space around it, as in a tight list
	Heading
	Quote
	List // of items
	Item
	Block // of code
	Rule
	Table // of rows, the first of which has the headings
	Row
	Cell

	Words
	Strong
	Emphasis
	Struck
	Code
	Key // of a keyboard
	Link
	Break
)

// A Node is a part of a text.
type Node struct {
	Kind    Kind
	In      []*Node
	Text    string // of words, code and keys
	To      string // where a link leads: an address on the web, or for mail
	Level   int    // of a heading, from 1
	Ordered bool   // of a list
	First   int    // number of its first item
	Loose   bool   // there is space between its items
	Task    Task   // of an item
}

// A Task says whether an item is to be ticked off.
type Task uint8

// An item that is none, one that is open, and one that is done.
const (
	NoTask Task = iota
	OpenTask
	DoneTask
)

// Of makes words.
func Of(text string) *Node { return &Node{Kind: Words, Text: clean(text)} }

// Plain is what a reader sees of blocks, without any markup.
func Plain(blocks []*Node) string {
	var b strings.Builder
	for _, n := range blocks {
		each(n, func(n *Node) {
			switch n.Kind {
			case Words, Code, Key, Block:
				b.WriteString(n.Text)
			case Break, Paragraph, Line, Heading, Cell, Item:
				if b.Len() > 0 {
					b.WriteByte('\n')
				}
			}
		})
	}
	return b.String()
}

// Number is how many nodes are of a kind.
func Number(blocks []*Node, k Kind) (count int) {
	for _, n := range blocks {
		each(n, func(n *Node) {
			if n.Kind == k {
				count++
			}
		})
	}
	return count
}

// Links are where the links of a text lead.
func Links(blocks []*Node) (list []string) {
	for _, n := range blocks {
		each(n, func(n *Node) {
			if n.Kind == Link {
				list = append(list, n.To)
			}
		})
	}
	return list
}

func each(n *Node, do func(*Node)) {
	do(n)
	for _, c := range n.In {
		each(c, do)
	}
}

// clean drops characters that no portal shows, and that could hide others.
func clean(s string) string {
	return strings.Map(func(r rune) rune {
		if r == 0 || r < ' ' && r != '\n' && r != '\t' || r == 0x7f || r >= 0xfff9 && r <= 0xfffb {
			return -1
		}
		return r
	}, s)
}

// tidy gives texts that look alike one form, which every way of writing them can keep: what stands in lines has no space at its ends,
// neighbours of one kind are one, and nothing is empty.
func tidy(in []*Node) []*Node {
	var out []*Node
	for _, n := range in {
		last := len(out) - 1
		switch {
		case n.Kind == Words && n.Text == "", isMark(n) && len(n.In) == 0:
			continue
		case n.Kind == Link && len(n.In) == 0:
			n.In = []*Node{Of(strings.TrimPrefix(n.To, "mailto:"))}
		case last < 0 || out[last].Kind != n.Kind:
		case n.Kind == Words || n.Kind == Code:
			out[last].Text += n.Text
			continue
		case isMark(n):
			out[last].In = tidy(append(out[last].In, n.In...))
			continue
		}
		out = append(out, n)
	}
	return out
}

// isMark reports whether a node only says how what is in it looks.
func isMark(n *Node) bool { return n.Kind == Strong || n.Kind == Emphasis || n.Kind == Struck }

// flat takes away marks inside of others of their kind, which change nothing.
func flat(in []*Node, within ...Kind) (out []*Node) {
	for _, n := range in {
		switch n.Kind {
		case Strong, Emphasis, Struck:
			if slices.Contains(within, n.Kind) {
				out = append(out, flat(n.In, within...)...)
				continue
			}
			n.In = flat(n.In, append(slices.Clone(within), n.Kind)...)
		case Link:
			n.In = flat(n.In, within...)
		}
		out = append(out, n)
	}
	return tidy(out)
}

const spaces = " \t\n"

// trim takes spaces and breaks from both ends of what stands in lines, and from around breaks.
func trim(in []*Node) []*Node {
	for len(in) > 0 {
		if in[0].Kind == Words {
			in[0].Text = strings.TrimLeft(in[0].Text, spaces)
		}
		if !blank(in[0]) {
			break
		}
		in = in[1:]
	}
	for len(in) > 0 {
		last := in[len(in)-1]
		if last.Kind == Words {
			last.Text = strings.TrimRight(last.Text, spaces)
		}
		if !blank(last) {
			break
		}
		in = in[:len(in)-1]
	}
	for i, n := range in {
		if n.Kind != Break {
			continue
		}
		if i+1 < len(in) && in[i+1].Kind == Words {
			in[i+1].Text = strings.TrimLeft(in[i+1].Text, spaces)
		}
		if in[i-1].Kind == Words {
			in[i-1].Text = strings.TrimRight(in[i-1].Text, spaces)
		}
	}
	return slices.DeleteFunc(in, func(n *Node) bool { return n.Kind == Words && n.Text == "" })
}

// blank reports whether nothing of a node is to be seen at the end of a line.
func blank(n *Node) bool { return n.Kind == Break || n.Kind == Words && n.Text == "" }

// settle decides whether a list has space between its items: it must where paragraphs would run into each other.
func (n *Node) settle() {
	if n.Loose && len(n.In) == 1 && len(n.In[0].In) < 2 {
		n.Loose = false
	}
	for _, item := range n.In {
		for i := 1; i < len(item.In); i++ {
			n.Loose = n.Loose || runsOn(item.In[i-1], item.In[i])
		}
	}
	for _, item := range n.In {
		for _, c := range item.In {
			if c.Kind == Paragraph || c.Kind == Line {
				c.Kind = Line
				if n.Loose {
					c.Kind = Paragraph
				}
			}
		}
	}
}

// runsOn reports whether a block would go on with the one before it when there is no line between them.
func runsOn(before, n *Node) bool {
	switch before.Kind {
	case Paragraph, Line:
		return isText(n) || n.Kind == List && n.Ordered && n.First != 1
	case Table, List, Quote, Item:
		last := before
		for len(last.In) > 0 && !isText(last) && last.Kind != Table {
			last = last.In[len(last.In)-1]
		}
		return before.Kind == Table || (isText(last) || last.Kind == Table) && isText(n) || before.Kind == n.Kind
	}
	return false
}

func isText(n *Node) bool { return n.Kind == Paragraph || n.Kind == Line }
