// Package term is how anything reaches the screen: words, tables, colour, progress, JSON. It decides
// how things look, never what is said.
package term

import (
	"encoding/json"
	"fmt"
	"io"
	"os"
	"strings"

	"github.com/jedib0t/go-pretty/v6/text"
	xterm "golang.org/x/term"
)

// A Screen prints to one standard output and one standard error.
type Screen struct {
	out, err     io.Writer // guarded
	data, bars   io.Writer // where JSON goes, and what moves
	width        int       // of the lines on out; text is wrapped there
	columns      int       // of the terminal, which lines and tables may fill
	display      bool      // out is a terminal: lines and tables are wrapped, too
	colour       bool      // out shows colour
	many         bool      // 256 colours
	errWidth     int       // of the lines on err; 0 for any
	errIsDisplay bool      // err can show moving bars
	muted        bool      // words on out are dropped, since programs read it
	nexts        []string
}

// New returns a screen. Colour is used on a terminal only, and not when NO_COLOR is set.
func New(out, err io.Writer) *Screen {
	s := &Screen{data: quoting{out}, bars: err, width: 100, columns: 100}
	if f, ok := out.(*os.File); ok && xterm.IsTerminal(int(f.Fd())) {
		s.display = true
		s.colour = os.Getenv("NO_COLOR") == "" && os.Getenv("TERM") != "dumb"
		s.many = strings.Contains(os.Getenv("TERM"), "256color") || os.Getenv("COLORTERM") != ""
		if w, _, err := xterm.GetSize(int(f.Fd())); err == nil && w > 20 {
			s.width, s.columns = min(w, 120), w
		}
	}
	if f, ok := err.(*os.File); ok {
		s.errIsDisplay = xterm.IsTerminal(int(f.Fd())) && os.Getenv("TERM") != "dumb"
		if w, _, err := xterm.GetSize(int(f.Fd())); err == nil && w > 20 {
			s.errWidth = min(w, 120)
		}
	}
	s.out, s.err = guard{out, s}, guard{err, s}
	return s
}

// Mute drops all words on standard output from now on, since programs read it; what comes next is kept for Said.
func (s *Screen) Mute() { s.muted = true }

// Said are the next steps that a muted screen would have printed.
func (s *Screen) Said() []string { return s.nexts }

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
	Stark // white on black, on any terminal
)

// colours are escape sequences (ECMA-48). Where a terminal has 256 of them they are middle tones, to be read on light and on dark ground.
var (
	colours = map[Tone]string{
		Strong:  "\x1b[1m",
		Quiet:   "\x1b[2m",
		Good:    "\x1b[32m",
		Bad:     "\x1b[1;31m",
		Careful: "\x1b[33m",
		Stark:   "\x1b[97;40m",
	}
	colours256 = map[Tone]string{
		Strong:  "\x1b[1m",
		Quiet:   "\x1b[2m",
		Good:    "\x1b[38;5;28m",
		Bad:     "\x1b[1;38;5;160m",
		Careful: "\x1b[38;5;130m",
		Stark:   "\x1b[97;40m",
	}
)

// In returns words in a tone, for use inside a line.
func (s *Screen) In(t Tone, words string) string {
	if !s.colour || t == Plain {
		return words
	}
	start := colours[t]
	if s.many {
		start = colours256[t]
	}
	return start + words + text.EscapeReset
}

// Line prints one line, which is wrapped on a terminal only.
func (s *Screen) Line(format string, args ...any) {
	if s.muted {
		return
	}
	words := fmt.Sprintf(format, args...)
	if s.display {
		words = fit(words, s.columns)
	}
	fmt.Fprintln(s.out, words)
}

// Paragraph prints words wrapped to the screen's width; each line starts with indent, the first with lead.
func (s *Screen) Paragraph(t Tone, lead, indent, words string) {
	if s.muted {
		return
	}
	room := max(20, s.width-text.StringWidthWithoutEscSequences(indent))
	for i, line := range strings.Split(wrap(strings.TrimSpace(words), "", room), "\n") {
		start := indent
		if i == 0 {
			start = lead
		}
		fmt.Fprintln(s.out, start+s.In(t, line))
	}
}

// Wrapped returns words wrapped to the screen's width, at most 100 columns; paragraphs are parted by an empty line.
func (s *Screen) Wrapped(words string) string {
	paragraphs := strings.Split(words, "\n\n")
	for i, p := range paragraphs {
		paragraphs[i] = wrap(strings.Join(strings.Fields(p), " "), "", s.HelpWidth())
	}
	return strings.Join(paragraphs, "\n\n")
}

// HelpWidth is the width of help, in columns.
func (s *Screen) HelpWidth() int { return min(s.width, 100) }

// Next prints what to do next.
func (s *Screen) Next(format string, args ...any) {
	if s.muted {
		s.nexts = append(s.nexts, fmt.Sprintf(format, args...))
	}
	s.Paragraph(Plain, s.In(Quiet, "next: "), "      ", fmt.Sprintf(format, args...))
}

// Warn prints a warning on standard error.
func (s *Screen) Warn(format string, args ...any) {
	s.Complain("havvel: " + fmt.Sprintf(format, args...))
}

// Complain prints words on standard error as they are, but for lines that are too long for a terminal.
func (s *Screen) Complain(words string) {
	if s.errWidth > 0 {
		words = fit(words, s.errWidth)
	}
	fmt.Fprintln(s.err, words)
}

// JSON prints one document.
func (s *Screen) JSON(v any) error {
	encoder := json.NewEncoder(s.data)
	encoder.SetEscapeHTML(false)
	encoder.SetIndent("", "  ")
	return encoder.Encode(v)
}

// JSONLine prints one document on one line.
func (s *Screen) JSONLine(v any) error {
	encoder := json.NewEncoder(s.data)
	encoder.SetEscapeHTML(false)
	return encoder.Encode(v)
}
