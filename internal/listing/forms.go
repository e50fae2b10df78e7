package listing

import (
	"fmt"
	"html"
	"regexp"
	"strings"

	"github.com/yuin/goldmark/util"
)

// unescape replaces the escapes and entities of CommonMark (sections 2.4 and 2.5) by what they stand for, and drops controls.
func unescape(raw []byte) string {
	var b strings.Builder
	begin := 0
	for i := 0; i+1 < len(raw); i++ {
		if raw[i] != '\\' || !util.IsPunct(raw[i+1]) {
			continue
		}
		b.WriteString(html.UnescapeString(string(raw[begin:i])))
		b.WriteByte(raw[i+1])
		i++
		begin = i + 1
	}
	b.WriteString(html.UnescapeString(string(raw[begin:])))
	return clean(b.String())
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

// plain is text without any markup.
type plain struct{}

func (plain) text(raw string) string       { return raw }
func (plain) strong(inner string) string   { return inner }
func (plain) emphasis(inner string) string { return inner }
func (plain) code(raw string) string       { return raw }
func (plain) key(raw string) string        { return "[" + raw + "]" }
func (plain) lineBreak() string            { return "\n" }
func (plain) paragraph(inner string) string {
	return inner
}
func (plain) tight(inner string) string          { return inner }
func (plain) heading(_ int, inner string) string { return inner }
func (plain) quote(inner string) string          { return indent(inner, "  ", "  ") }
func (plain) pre(raw string) string              { return strings.TrimRight(raw, "\n") }
func (plain) rule() string                       { return "* * *" }
func (plain) between() string                    { return "\n\n" }

func (plain) link(address, inner string) string {
	if address = strings.TrimPrefix(address, "mailto:"); address == inner || inner == "" {
		return address
	}
	return inner + " (" + address + ")"
}

func (plain) list(items []string, ordered bool, first int) string {
	return marked(items, ordered, first, "- ")
}

// table writes a row a line, each cell behind its heading; columns would not stand below each other.
func (plain) table(heads []string, rows [][]string) string {
	var lines []string
	for _, r := range rows {
		line := r[0] + ":"
		for i := 1; i < len(r); i++ {
			if r[i] != "" {
				line += fmt.Sprintf(" %s %s;", strings.ToLower(heads[i]), r[i])
			}
		}
		lines = append(lines, strings.TrimSuffix(line, ";"))
	}
	return strings.Join(lines, "\n")
}

// marked writes a list with marks before its items, whose further lines are indented.
func marked(items []string, ordered bool, first int, mark string) string {
	var lines []string
	for i, item := range items {
		m := mark
		if ordered {
			m = fmt.Sprintf("%d. ", first+i)
		}
		lines = append(lines, indent(item, m, strings.Repeat(" ", len(m))))
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

// markup is HTML with a few elements, and one attribute: href.
type markup struct{}

func (markup) text(raw string) string        { return html.EscapeString(raw) }
func (markup) strong(inner string) string    { return "<strong>" + inner + "</strong>" }
func (markup) emphasis(inner string) string  { return "<em>" + inner + "</em>" }
func (markup) code(raw string) string        { return "<code>" + html.EscapeString(raw) + "</code>" }
func (markup) key(raw string) string         { return "<kbd>" + html.EscapeString(raw) + "</kbd>" }
func (markup) lineBreak() string             { return "<br>" }
func (markup) paragraph(inner string) string { return "<p>" + inner + "</p>" }
func (markup) quote(inner string) string     { return "<blockquote>" + inner + "</blockquote>" }
func (markup) tight(inner string) string     { return inner }
func (markup) rule() string                  { return "<hr>" }
func (markup) between() string               { return "\n" }

func (markup) heading(level int, inner string) string {
	level = min(level+1, 6) // the page itself has the first
	return fmt.Sprintf("<h%d>%s</h%d>", level, inner, level)
}

func (markup) pre(raw string) string {
	return "<pre><code>" + html.EscapeString(raw) + "</code></pre>"
}

func (markup) link(address, inner string) string {
	return `<a href="` + html.EscapeString(address) + `">` + inner + "</a>"
}

func (markup) list(items []string, ordered bool, first int) string {
	open, end := "<ul>", "</ul>"
	if ordered {
		open, end = "<ol>", "</ol>"
		if first != 1 {
			open = fmt.Sprintf(`<ol start="%d">`, first)
		}
	}
	return open + "<li>" + strings.Join(items, "</li><li>") + "</li>" + end
}

func (markup) table(heads []string, rows [][]string) string {
	var b strings.Builder
	b.WriteString("<table><tr><th>" + strings.Join(heads, "</th><th>") + "</th></tr>")
	for _, r := range rows {
		b.WriteString("<tr><td>" + strings.Join(r, "</td><td>") + "</td></tr>")
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
func (f bbcode) code(raw string) string        { return "[i]" + f.text(raw) + "[/i]" }
func (f bbcode) key(raw string) string         { return "[b]" + f.text(raw) + "[/b]" }
func (bbcode) lineBreak() string               { return "\n" }
func (bbcode) paragraph(inner string) string   { return inner }
func (bbcode) tight(inner string) string       { return inner }
func (bbcode) heading(_ int, in string) string { return "[b]" + in + "[/b]" }
func (bbcode) quote(inner string) string       { return "[quote]" + inner + "[/quote]" }
func (f bbcode) pre(raw string) string {
	return "[code]" + f.text(strings.TrimRight(raw, "\n")) + "[/code]"
}
func (bbcode) rule() string    { return "* * *" }
func (bbcode) between() string { return "\n\n" }

func (bbcode) link(address, inner string) string {
	return "[url=" + address + "]" + inner + "[/url]"
}

func (bbcode) list(items []string, ordered bool, first int) string {
	open := "[list]"
	if ordered {
		open = fmt.Sprintf("[list=%d]", first)
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

// markdown is CommonMark.
type markdown struct{}

var (
	signs = regexp.MustCompile("([\\\\`*_\\[\\]<&~|])")
	begin = regexp.MustCompile(`^(\s*)([#>+=-]|\d{1,9}[.)])`)
)

// text escapes what could mean something, so that the same words come out of it.
func (markdown) text(raw string) string {
	raw = signs.ReplaceAllString(raw, `\$1`)
	if words, ok := strings.CutSuffix(raw, "!"); ok { // before a link it would make a picture of it
		raw = words + `\!`
	}
	return begin.ReplaceAllStringFunc(raw, func(m string) string { return m[:len(m)-1] + `\` + m[len(m)-1:] })
}
func (markdown) strong(inner string) string   { return around(inner, "**") }
func (markdown) emphasis(inner string) string { return around(inner, "*") }
func (f markdown) key(raw string) string      { return f.code(raw) }
func (markdown) lineBreak() string            { return "\\\n" }

// numbered is a line's start that was put together of parts, and would begin a list.
var numbered = regexp.MustCompile(`(?m)^(\d{1,9})([.)])`)

func (markdown) paragraph(inner string) string {
	return numbered.ReplaceAllString(strings.TrimSpace(inner), `$1\$2`)
}
func (f markdown) tight(inner string) string { return f.paragraph(inner) }
func (markdown) heading(level int, inner string) string {
	line := strings.NewReplacer("\\\n", " ", "\n", " ").Replace(inner)
	if words, ok := strings.CutSuffix(line, "#"); ok { // marks at the end would be taken for the heading's own
		line = words + `\#`
	}
	return strings.Repeat("#", level) + " " + line
}
func (markdown) quote(inner string) string {
	lines := strings.Split(inner, "\n")
	for i, l := range lines {
		lines[i] = strings.TrimRight("> "+l, " ")
	}
	return strings.Join(lines, "\n")
}
func (markdown) pre(raw string) string {
	fence := "```"
	for strings.Contains(raw, fence) {
		fence += "`"
	}
	return fence + "\n" + strings.TrimRight(raw, "\n") + "\n" + fence
}
func (markdown) rule() string    { return "***" }
func (markdown) between() string { return "\n\n" }

func (f markdown) code(raw string) string {
	if strings.Contains(raw, "``") {
		return f.text(raw) // three marks at the start of a line could begin a block
	}
	ticks := "`"
	for strings.Contains(raw, ticks) {
		ticks += "`"
	}
	if strings.HasPrefix(raw, "`") || strings.HasSuffix(raw, "`") {
		raw = " " + raw + " "
	}
	return ticks + raw + ticks
}

func (markdown) link(address, inner string) string {
	return "[" + inner + "](<" + address + ">)"
}

func (markdown) list(items []string, ordered bool, first int) string {
	return marked(items, ordered, first, "- ")
}

func (markdown) table(heads []string, rows [][]string) string {
	line := func(cells []string) string { return "| " + strings.Join(cells, " | ") + " |" }
	lines := []string{line(heads), "|" + strings.Repeat(" --- |", len(heads))}
	for _, r := range rows {
		lines = append(lines, line(r))
	}
	return strings.Join(lines, "\n")
}

// around puts marks around words, with the spaces outside, where CommonMark wants them.
func around(inner, mark string) string {
	core := strings.TrimSpace(inner)
	if core == "" {
		return inner
	}
	at := strings.Index(inner, core)
	return inner[:at] + mark + core + mark + inner[at+len(core):]
}
