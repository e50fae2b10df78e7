package term

import (
	"strings"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/jedib0t/go-pretty/v6/text"
)

const (
	between   = 2  // blanks before each column
	leastRoom = 20 // columns that the last column wants to be wrapped in
)

// Table prints rows under headings. Cells that are numbers with units look best aligned to the right:
// right names those columns, from 0. On a narrow terminal the last column is wrapped or, where its words are too long for that, columns
// that don't fit go below their row.
func (s *Screen) Table(headings []string, rows [][]string, right ...int) {
	if s.muted {
		return
	}
	columns := len(headings)
	for _, r := range rows {
		columns = max(columns, len(r))
	}
	widths := make([]int, columns)
	for _, r := range append(rows, headings) {
		for i, cell := range r {
			widths[i] = max(widths[i], text.StringWidthWithoutEscSequences(cell))
		}
	}
	fit, used := 0, 0
	for fit < columns && used+between+widths[fit] <= s.columns {
		used += between + widths[fit]
		fit++
	}
	switch {
	case fit == columns || !s.display || columns == 0:
		s.out.Write([]byte(s.render(headings, rows, right, 0)))
	case fit == columns-1 && s.columns-used-between >= max(leastRoom, longestWord(rows, fit)):
		s.out.Write([]byte(s.render(headings, rows, right, s.columns-used-between)))
	default:
		s.below(headings, rows, right, max(fit, 1))
	}
}

// longestWord is the width of the longest word in a column.
func longestWord(rows [][]string, column int) (n int) {
	for _, r := range rows {
		if column < len(r) {
			for word := range strings.FieldsSeq(r[column]) {
				n = max(n, text.StringWidthWithoutEscSequences(word))
			}
		}
	}
	return n
}

// below prints the first columns as a table, and the others below each row, after their headings.
func (s *Screen) below(headings []string, rows [][]string, right []int, first int) {
	cut := func(cells []string) []string { return cells[:min(first, len(cells))] }
	var firsts [][]string
	for _, r := range rows {
		firsts = append(firsts, cut(r))
	}
	lines := strings.Split(strings.TrimSuffix(s.render(cut(headings), firsts, right, 0), "\n"), "\n")
	if len(headings) > 0 {
		s.Line("%s", lines[0])
		lines = lines[1:]
	}
	for i, r := range rows {
		s.Line("%s", lines[i])
		for c := first; c < len(r); c++ {
			if r[c] == "" {
				continue
			}
			lead := strings.Repeat(" ", 2*between+between)
			if c < len(headings) {
				lead += s.In(Quiet, headings[c]) + "  "
			}
			s.Line("%s", lead+r[c])
		}
	}
}

// render lays a table out; the last column is at most so many columns wide, 0 for any width.
func (s *Screen) render(headings []string, rows [][]string, right []int, last int) string {
	t := table.NewWriter()
	style := table.StyleDefault
	style.Options = table.OptionsNoBordersAndSeparators
	style.Box.PaddingLeft, style.Box.PaddingRight = strings.Repeat(" ", between), ""
	style.Format.Header = text.FormatDefault
	if s.colour {
		style.Color.Header = text.Colors{text.Faint}
	}
	t.SetStyle(style)
	var columns []table.ColumnConfig
	for _, i := range right {
		columns = append(columns, table.ColumnConfig{Number: i + 1, Align: text.AlignRight, AlignHeader: text.AlignRight})
	}
	if last > 0 {
		columns = append(columns, table.ColumnConfig{Number: len(rows[0]), WidthMax: last, WidthMaxEnforcer: text.WrapSoft})
	}
	t.SetColumnConfigs(columns)
	t.SuppressTrailingSpaces()
	if len(headings) > 0 {
		t.AppendHeader(row(headings))
	}
	for _, r := range rows {
		t.AppendRow(row(r))
	}
	return t.Render() + "\n"
}

func row(cells []string) table.Row {
	r := make(table.Row, len(cells))
	for i, c := range cells {
		r[i] = c
	}
	return r
}
