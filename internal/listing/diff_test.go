package listing

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
)

func TestDiff(t *testing.T) {
	for _, c := range []struct{ before, after, want string }{
		{"a", "a", ""},
		{"", "a\nb", "+ a|+ b"},
		{"a\nb", "", "- a|- b"},
		{"a\nb\nc", "a\nx\nc", "  a|- b|+ x|  c"},
		{"a\nb\nc\nd\ne", "a\nb\nc\nd\nf", "  d|- e|+ f"},
		{"1\n2\n3\n4\n5\n6", "0\n1\n2\n3\n4\n5\n6\n7", "+ 0|  1|  6|+ 7"},
	} {
		if got := strings.Join(Diff(c.before, c.after), "|"); got != c.want {
			t.Errorf("%q to %q: %q, want %q", c.before, c.after, got, c.want)
		}
	}
}

// TestDiffWhole: what went and what came are all that differs, whatever the texts.
func TestDiffWhole(t *testing.T) {
	chance := rand.New(rand.NewPCG(3, 1))
	text := func() []string {
		list := make([]string, 1+chance.IntN(30))
		for i := range list {
			list[i] = fmt.Sprint(chance.IntN(8))
		}
		return list
	}
	for range 500 {
		a, b := text(), text()
		gone, came := 0, 0
		for _, line := range Diff(strings.Join(a, "\n"), strings.Join(b, "\n")) {
			switch line[0] {
			case '-':
				gone++
			case '+':
				came++
			}
		}
		if len(a)-gone != len(b)-came || slices.Equal(a, b) != (gone+came == 0) {
			t.Fatalf("%v to %v: %d went, %d came", a, b, gone, came)
		}
	}
}
