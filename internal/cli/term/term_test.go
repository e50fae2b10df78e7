package term

import (
	"strings"
	"testing"
	"time"
)

func TestClean(t *testing.T) {
	if got := Clean("\x1b[31mred\x07\r\n\u202eabc\u009bnight 夜 é"); strings.ContainsAny(got, "\x1b\x07\r\n\u202e\u009b") || !strings.HasSuffix(got, "night 夜 é") {
		t.Errorf("%q", got)
	}
}

func TestSpan(t *testing.T) {
	for d, want := range map[time.Duration]string{400 * time.Millisecond: "0s", 3 * time.Second: "3s", 2 * time.Minute: "2m", 80 * time.Second: "1m 20s", 2*time.Hour + 5*time.Minute: "2h 5m", time.Hour: "1h"} {
		if got := Span(d); got != want {
			t.Errorf("%v: %q, want %q", d, got, want)
		}
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
