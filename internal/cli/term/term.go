// Package term is how anything reaches the screen: words, tables, colour, progress, JSON. It decides
// how things look, never what is said.
package term

import (
	"encoding/json"
	"fmt"
	"io"
	"os"
	"strings"
	"unicode"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/jedib0t/go-pretty/v6/text"
	xterm "golang.org/x/term"
)

// A Screen prints to one standard output and one standard error.
type Screen struct {
	out, err     io.Writer
	width        int  // of the lines on out; text is wrapped there
	colour       bool // out shows colour
	errIsDisplay bool // err can show moving bars
}

// New returns a screen. Colour is used on a terminal only, and not when NO_COLOR is set.
func New(out, err io.Writer) *Screen {
	s := &Screen{out: out, err: err, width: 100}
	if f, ok := out.(*os.File); ok && xterm.IsTerminal(int(f.Fd())) {
		s.colour = os.Getenv("NO_COLOR") == "" && os.Getenv("TERM") != "dumb"
		if w, _, err := xterm.GetSize(int(f.Fd())); err == nil && w > 20 {
			s.width = min(w, 120)
		}
	}
	if f, ok := err.(*os.File); ok {
		s.errIsDisplay = xterm.IsTerminal(int(f.Fd())) && os.Getenv("TERM") != "dumb"
	}
	return s
}

// A Tone is how words are meant.
type Tone int

// The tones.
const (
	Plain Tone = iota
	Strong
	Quiet
	Good
	Bad
	Careful
)

var colours = map[Tone]text.Colors{
	Strong: {text.Bold}, Quiet: {text.Faint}, Good: {text.FgGreen}, Bad: {text.FgRed, text.Bold}, Careful: {text.FgYellow},
}

// In returns words in a tone, for use inside a line.
func (s *Screen) In(t Tone, words string) string {
	if !s.colour || t == Plain {
		return words
	}
	return colours[t].EscapeSeq() + words + text.EscapeReset
}

// Line prints one line, not wrapped.
func (s *Screen) Line(format string, args ...any) {
	fmt.Fprintf(s.out, format+"\n", args...)
}

// Paragraph prints words wrapped to the screen's width; each line starts with indent, the first with lead.
func (s *Screen) Paragraph(t Tone, lead, indent, words string) {
	room := max(20, s.width-text.StringWidth(indent))
	for i, line := range strings.Split(text.WrapSoft(words, room), "\n") {
		start := indent
		if i == 0 {
			start = lead
		}
		fmt.Fprintln(s.out, start+s.In(t, strings.TrimRight(line, " ")))
	}
}

// Next prints what to do next.
func (s *Screen) Next(format string, args ...any) {
	s.Paragraph(Plain, s.In(Quiet, "next: "), "      ", fmt.Sprintf(format, args...))
}

// Warn prints a warning on standard error.
func (s *Screen) Warn(format string, args ...any) {
	fmt.Fprintf(s.err, "havvel: "+format+"\n", args...)
}

// Table prints rows under headings. Cells that are numbers with units look best aligned to the right:
// right names those columns, from 0.
func (s *Screen) Table(headings []string, rows [][]string, right ...int) {
	t := table.NewWriter()
	t.SetOutputMirror(s.out)
	style := table.StyleDefault
	style.Options = table.OptionsNoBordersAndSeparators
	style.Box.PaddingLeft, style.Box.PaddingRight = "  ", ""
	style.Format.Header = text.FormatDefault
	if s.colour {
		style.Color.Header = text.Colors{text.Faint}
	}
	t.SetStyle(style)
	var columns []table.ColumnConfig
	for _, i := range right {
		columns = append(columns, table.ColumnConfig{Number: i + 1, Align: text.AlignRight, AlignHeader: text.AlignRight})
	}
	t.SetColumnConfigs(columns)
	t.SuppressTrailingSpaces()
	if len(headings) > 0 {
		t.AppendHeader(row(headings))
	}
	for _, r := range rows {
		t.AppendRow(row(r))
	}
	t.Render()
}

func row(cells []string) table.Row {
	r := make(table.Row, len(cells))
	for i, c := range cells {
		r[i] = c
	}
	return r
}

// JSON prints one document.
func (s *Screen) JSON(v any) error {
	encoder := json.NewEncoder(s.out)
	encoder.SetEscapeHTML(false)
	encoder.SetIndent("", "  ")
	return encoder.Encode(v)
}

// Clean makes words that came from outside safe to print: control characters, with which they could
// move the cursor or change what stands on the screen, become spaces.
func Clean(words string) string {
	return strings.TrimSpace(strings.Map(func(r rune) rune {
		if unicode.IsControl(r) || unicode.Is(unicode.Bidi_Control, r) {
			return ' '
		}
		return r
	}, words))
}
