package inwords

import (
	"testing"
	"time"
)

func TestSpan(t *testing.T) {
	for d, want := range map[time.Duration]string{
		400 * time.Millisecond: "0s", 3 * time.Second: "3s", 2 * time.Minute: "2m", 80 * time.Second: "1m 20s",
		2*time.Hour + 5*time.Minute: "2h 5m", time.Hour: "1h",
	} {
		if got := Span(d); got != want {
			t.Errorf("%v: %q, want %q", d, got, want)
		}
	}
}

func TestList(t *testing.T) {
	for want, names := range map[string][]string{"": nil, "a": {"a"}, "a and b": {"a", "b"}, "a, b and c": {"a", "b", "c"}} {
		if got := List(names); got != want {
			t.Errorf("%q, want %q", got, want)
		}
	}
}
