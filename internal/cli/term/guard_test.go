package term

import (
	"encoding/json"
	"strings"
	"testing"
)

// TestGuard: words from outside show as words; colour of our own passes, where there is any, and programs get every character.
func TestGuard(t *testing.T) {
	const hostile = "moc\x1b[2J\x1b]0;x\x07\u202e\u009b2K\rmoth\x9b"
	var out, wrong strings.Builder
	s := New(&out, &wrong)
	for _, colour := range []bool{false, true} {
		s.colour = colour
		out.Reset()
		wrong.Reset()
		s.Line("%s %s", hostile, s.In(Good, "public"))
		s.Paragraph(Bad, "", "", hostile)
		s.Table(nil, [][]string{{hostile, s.In(Bad, "refused")}})
		s.Complain(hostile)
		all := out.String() + wrong.String()
		if colour {
			if plain := ansi.ReplaceAllString(all, ""); plain == all {
				t.Errorf("no colour in %q", all)
			} else {
				all = plain
			}
		}
		if strings.ContainsAny(all, "\x1b\x07\r\u202e\u009b") || strings.Contains(all, "\x9b2") || strings.Count(all, "moth") != 4 {
			t.Errorf("colour %v: %q", colour, all)
		}
	}
	out.Reset()
	if err := s.JSON(map[string]string{"says": strings.TrimSuffix(hostile, "\x9b")}); err != nil {
		t.Fatal(err)
	}
	var back map[string]string
	if err := json.Unmarshal([]byte(out.String()), &back); err != nil || back["says"] != strings.TrimSuffix(hostile, "\x9b") ||
		strings.ContainsAny(out.String(), "\u202e\u009b") {
		t.Errorf("%q %v", out.String(), err)
	}
}
