package prose

import (
	"fmt"
	"html"
	"regexp"
	"strings"
)

// markup is HTML with a few elements, and one attribute: href. Text that has letters of both directions says for each block that it has
// its own.
type markup struct {
	sided   bool
	highest int // level of a heading, which becomes the second: the page itself has the first
}

func (m markup) open(element string) string {
	if m.sided {
		return "<" + element + ` dir="auto">`
	}
	return "<" + element + ">"
}

func (markup) text(raw string) string          { return html.EscapeString(raw) }
func (markup) strong(inner string) string      { return "<strong>" + inner + "</strong>" }
func (markup) emphasis(inner string) string    { return "<em>" + inner + "</em>" }
func (markup) struck(inner string) string      { return "<del>" + inner + "</del>" }
func (markup) code(raw string) string          { return "<code>" + html.EscapeString(raw) + "</code>" }
func (markup) key(raw string) string           { return "<kbd>" + html.EscapeString(raw) + "</kbd>" }
func (markup) lineBreak() string               { return "<br>" }
func (m markup) paragraph(inner string) string { return m.open("p") + inner + "</p>" }
func (m markup) quote(inner string) string     { return "<blockquote>" + inner + "</blockquote>" }
func (markup) tight(inner string) string       { return inner }
func (markup) rule() string                    { return "<hr>" }
func (markup) between() string                 { return "\n" }
func (markup) task(done bool) string           { return ticked(done) }

func (m markup) heading(level int, inner string) string {
	level = min(level-max(1, m.highest)+2, 6)
	return m.open(fmt.Sprintf("h%d", level)) + fmt.Sprintf("%s</h%d>", inner, level)
}

func (markup) pre(raw string) string {
	return "<pre><code>" + html.EscapeString(raw) + "</code></pre>"
}

func (markup) link(address, inner string) string {
	return `<a href="` + html.EscapeString(address) + `">` + inner + "</a>"
}

func (m markup) list(items []string, n *Node, _ bool) string {
	open, end := m.open("ul"), "</ul>"
	if n.Ordered {
		if open, end = m.open("ol"), "</ol>"; n.First != 1 {
			open = fmt.Sprintf(`%s start="%d">`, strings.TrimSuffix(open, ">"), n.First)
		}
	}
	if len(items) == 0 {
		return open + end
	}
	return open + m.open("li") + strings.Join(items, "</li>"+m.open("li")) + "</li>" + end
}

func (m markup) table(heads []string, rows [][]string) string {
	var b strings.Builder
	line := func(cells []string, element string) {
		b.WriteString("<tr>")
		for _, c := range cells {
			b.WriteString(m.open(element) + c + "</" + element + ">")
		}
		b.WriteString("</tr>")
	}
	b.WriteString("<table>")
	line(heads, "th")
	for _, r := range rows {
		line(r, "td")
	}
	return b.String() + "</table>"
}

// bbcode is the markup in square brackets that forums made common.
type bbcode struct{}

// tagLike is what a reader of BBCode could take for a tag.
var tagLike = regexp.MustCompile(`\[(/?[A-Za-z*])`)

// text puts a word joiner, which is not seen, behind a bracket that would begin a tag: BBCode has no escape.
func (bbcode) text(raw string) string          { return tagLike.ReplaceAllString(raw, "[\u2060$1") }
func (bbcode) strong(inner string) string      { return "[b]" + inner + "[/b]" }
func (bbcode) emphasis(inner string) string    { return "[i]" + inner + "[/i]" }
func (bbcode) struck(inner string) string      { return "[s]" + inner + "[/s]" }
func (f bbcode) code(raw string) string        { return "[i]" + f.text(raw) + "[/i]" }
func (f bbcode) key(raw string) string         { return "[b]" + f.text(raw) + "[/b]" }
func (bbcode) lineBreak() string               { return "\n" }
func (bbcode) paragraph(inner string) string   { return inner }
func (bbcode) tight(inner string) string       { return inner }
func (bbcode) heading(_ int, in string) string { return "[b]" + in + "[/b]" }
func (bbcode) quote(inner string) string       { return "[quote]" + inner + "[/quote]" }
func (bbcode) rule() string                    { return "* * *" }
func (bbcode) between() string                 { return "\n\n" }
func (bbcode) task(done bool) string           { return ticked(done) }

func (f bbcode) pre(raw string) string {
	return "[code]" + f.text(strings.TrimRight(raw, "\n")) + "[/code]"
}

func (bbcode) link(address, inner string) string {
	return "[url=" + address + "]" + inner + "[/url]"
}

func (bbcode) list(items []string, n *Node, _ bool) string {
	open := "[list]"
	if n.Ordered {
		open = fmt.Sprintf("[list=%d]", n.First)
	}
	return open + "\n[*]" + strings.Join(items, "\n[*]") + "\n[/list]"
}

func (bbcode) table(heads []string, rows [][]string) string {
	var b strings.Builder
	b.WriteString("[table]\n[tr][th]" + strings.Join(heads, "[/th][th]") + "[/th][/tr]\n")
	for _, r := range rows {
		b.WriteString("[tr][td]" + strings.Join(r, "[/td][td]") + "[/td][/tr]\n")
	}
	return b.String() + "[/table]"
}
