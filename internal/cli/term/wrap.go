package term

import (
	"regexp"
	"strings"

	"github.com/jedib0t/go-pretty/v6/text"
)

var (
	wordAndBlanks = regexp.MustCompile(`\s*\S+`)
	column        = regexp.MustCompile(`^(\s*\S+(?: \S+)*\s{2,})\S`)
)

// wrap breaks words into lines of at most width columns, each after the first with indent. A word that is longer stays whole, so that links
// and paths can be copied.
func wrap(words, indent string, width int) string {
	var b strings.Builder
	used := 0
	for _, part := range wordAndBlanks.FindAllString(words, -1) {
		n := text.StringWidthWithoutEscSequences(part)
		if word := strings.TrimLeft(part, " \t"); used > 0 && used+n > width {
			b.WriteString("\n" + indent)
			used = text.StringWidthWithoutEscSequences(indent + word)
			b.WriteString(word)
			continue
		}
		b.WriteString(part)
		used += n
	}
	return b.String()
}

// hanging is the indent of a line's continuation: below its second column, where it has two, else a little further than its start.
func hanging(line string, width int) string {
	plain := text.StripEscape(line)
	n := len(plain) - len(strings.TrimLeft(plain, " ")) + 2
	if m := column.FindStringSubmatch(plain); m != nil {
		if at := text.StringWidth(m[1]); at <= width/3 {
			n = at
		}
	}
	return strings.Repeat(" ", n)
}

// fit breaks each line of a text that is too long for a terminal.
func fit(words string, width int) string {
	lines := strings.Split(words, "\n")
	for i, line := range lines {
		if text.StringWidthWithoutEscSequences(line) > width {
			lines[i] = wrap(line, hanging(line, width), width)
		}
	}
	return strings.Join(lines, "\n")
}
