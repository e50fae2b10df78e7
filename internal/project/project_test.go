package project

import "testing"

func TestShortFrom(t *testing.T) {
	for title, want := range map[string]string{
		"Tinderwick Lane": "tinderwick-lane", "  L'Été: brûlé!  ": "lete-brule", "夜": "game", "A--B 2": "a-b-2", "": "game",
	} {
		got := ShortFrom(title)
		if got != want || !shortName.MatchString(got) {
			t.Errorf("%q: %q, want %q", title, got, want)
		}
	}
}
