package term

import (
	"bytes"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/jedib0t/go-pretty/v6/text"

	"havvel/internal/inwords"
	"havvel/internal/progress"
)

func TestClean(t *testing.T) {
	if got := inwords.Clean("\x1b[31mred\x07\r\n\u202eabc\u009bnight 夜 é"); strings.ContainsAny(got, "\x1b\x07\r\n\u202e\u009b") ||
		!strings.HasSuffix(got, "night 夜 é") {
		t.Errorf("%q", got)
	}
}

// TestWrap: no line is wider than the screen, and following lines are indented.
func TestWrap(t *testing.T) {
	var out strings.Builder
	s := New(&out, &out)
	s.width = 40
	s.Paragraph(Plain, "  → ", "    ", strings.Repeat("lantern ", 20))
	for i, line := range strings.Split(strings.TrimRight(out.String(), "\n"), "\n") {
		if len([]rune(line)) > 40 || i > 0 && !strings.HasPrefix(line, "    l") {
			t.Errorf("line %d: %q", i, line)
		}
	}
}

// TestTable: columns are aligned, numbers to the right, and colours don't count as width.
func TestTable(t *testing.T) {
	var out strings.Builder
	s := New(&out, &out)
	s.Table([]string{"kind", "size"}, [][]string{{"pages", "592 B"}, {"packed data", "1.2 MB"}}, 1)
	want := "  kind           size\n  pages         592 B\n  packed data  1.2 MB\n"
	if out.String() != want {
		t.Errorf("\n got %q\nwant %q", out.String(), want)
	}
	out.Reset()
	s.colour = true
	s.Table(nil, [][]string{{s.In(Bad, "refused"), "a"}, {s.In(Good, "public"), "b"}})
	for line := range strings.SplitSeq(strings.TrimSpace(out.String()), "\n") {
		plain := strings.TrimLeft(ansi.ReplaceAllString(line, ""), " ")
		if len(plain) != len("refused  a") {
			t.Errorf("%q is not aligned", plain)
		}
	}
}

var ansi = regexp.MustCompile("\x1b\\[[0-9;]*m")

// TestNoColour: nothing but words reaches what is no terminal.
func TestNoColour(t *testing.T) {
	var out strings.Builder
	s := New(&out, &out)
	if got := s.In(Bad, "no"); got != "no" {
		t.Errorf("%q", got)
	}
	if s.Progress() != progress.None {
		t.Error("a bar would be drawn into a file")
	}
}

func TestBar(t *testing.T) {
	b := &bar{what: "packing", total: 200_000_000, began: time.Now().Add(-10 * time.Second)}
	b.Advance(50_000_000)
	line := b.line(time.Now())
	for _, has := range []string{"packing ███████░", "50 MB of 200 MB", "30s left"} {
		if !strings.Contains(line, has) {
			t.Errorf("%q lacks %q", line, has)
		}
	}
	empty := &bar{what: "x", began: time.Now()}
	if line := empty.line(time.Now()); !strings.Contains(line, "0 B of 0 B") {
		t.Errorf("%q", line)
	}
}

// TestNarrow: on a narrow terminal nothing is lost, links stay whole, and no line is wider but for a word that is.
func TestNarrow(t *testing.T) {
	var out bytes.Buffer
	s := &Screen{out: &out, width: 60, columns: 60, display: true, colour: true}
	link := "https://brackwater.example/play/tinderwick-lane"
	s.Table(
		[]string{"destination", "state", "by", "link"},
		[][]string{{"brackwater", s.In(Good, "public"), "moth on the long desk", link}, {"shed", "draft", "", ""}},
	)
	s.Table([]string{"what", "how it is known"}, [][]string{{"together", "the most at once, without what scripts make while they run"}})
	s.Line("  to start     about 598 KB in 8 files: 1.0s at 5 Mbit/s, under 0.1s at 50, and what is more")
	s.Paragraph(Bad, "- ", "  ", "a word "+strings.Repeat("x", 70)+" that is longer than a line")
	plain := text.StripEscape(out.String())
	for _, want := range []string{link, "moth on the long desk\n      link  " + link, "the most at once, without what scripts make\n     " +
		"       while they run", "5 Mbit/s,\n               under 0.1s", strings.Repeat("x", 70)} {
		if !strings.Contains(plain, want) {
			t.Errorf("lacks %q:\n%s", want, plain)
		}
	}
	for line := range strings.Lines(plain) {
		if line = strings.TrimRight(line, "\n"); text.StringWidth(line) > 60 && strings.Contains(strings.TrimSpace(line), "  ") {
			t.Errorf("%d columns: %s", text.StringWidth(line), line)
		}
	}
}
