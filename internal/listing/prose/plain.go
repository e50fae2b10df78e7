package prose

import (
	"fmt"
	"net/url"
	"strings"
)

// plain is text without any markup.
type plain struct{}

func (plain) text(raw string) string             { return raw }
func (plain) strong(inner string) string         { return inner }
func (plain) emphasis(inner string) string       { return inner }
func (plain) struck(inner string) string         { return inner }
func (plain) code(raw string) string             { return raw }
func (plain) key(raw string) string              { return "[" + raw + "]" }
func (plain) lineBreak() string                  { return "\n" }
func (plain) paragraph(inner string) string      { return inner }
func (plain) tight(inner string) string          { return inner }
func (plain) heading(_ int, inner string) string { return inner }
func (plain) quote(inner string) string          { return indent(inner, "  ", "  ") }
func (plain) pre(raw string) string              { return strings.TrimRight(raw, "\n") }
func (plain) rule() string                       { return "* * *" }
func (plain) between() string                    { return "\n\n" }
func (plain) task(done bool) string              { return ticked(done) }

func ticked(done bool) string {
	if done {
		return "☑ "
	}
	return "☐ "
}

func (plain) link(address, inner string) string {
	bare := strings.TrimPrefix(address, "mailto:")
	said, err := url.PathUnescape(bare)
	if err != nil {
		said = bare
	}
	if inner == "" || said == inner || strings.TrimPrefix(strings.TrimPrefix(said, "http://"), "https://") == inner {
		return bare
	}
	return inner + " (" + bare + ")"
}

func (plain) list(items []string, n *Node, _ bool) string { return marked(items, n, "- ", ". ") }

// table writes a row a line, each cell behind its heading; columns would not stand below each other.
func (plain) table(heads []string, rows [][]string) string {
	var lines []string
	for _, r := range rows {
		line := r[0] + ":"
		for i := 1; i < len(r) && i < len(heads); i++ {
			if r[i] != "" {
				line += fmt.Sprintf(" %s %s;", strings.ToLower(heads[i]), r[i])
			}
		}
		lines = append(lines, strings.TrimRight(line, ";:"))
	}
	if len(rows) == 0 {
		return strings.Join(heads, ", ")
	}
	return strings.Join(lines, "\n")
}

// marked writes a list with marks before its items, whose further lines are indented.
func marked(items []string, n *Node, bullet, behind string) string {
	var lines []string
	for i, item := range items {
		m := bullet
		if n.Ordered {
			m = fmt.Sprint(n.First+i) + behind
		}
		lines = append(lines, strings.TrimRight(indent(item, m, strings.Repeat(" ", len(m))), " "))
	}
	if n.Loose {
		return strings.Join(lines, "\n\n")
	}
	return strings.Join(lines, "\n")
}

// indent writes first before the first line, and rest before all others that are not empty.
func indent(s, first, rest string) string {
	lines := strings.Split(s, "\n")
	for i, l := range lines {
		switch {
		case i == 0:
			lines[i] = first + l
		case l != "":
			lines[i] = rest + l
		}
	}
	return strings.Join(lines, "\n")
}
