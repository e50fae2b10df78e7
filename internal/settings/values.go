package settings

import (
	"fmt"
	"strconv"
	"strings"
	"time"
)

// A Size is a number of bytes, written like "80 MB": B, KB, MB and GB count by 1000.
type Size int64

// UnmarshalText reads a size as people write it.
func (s *Size) UnmarshalText(text []byte) error {
	number := strings.TrimSpace(string(text))
	unit := int64(0)
	for _, u := range []struct {
		name  string
		bytes int64
	}{{"GB", 1e9}, {"MB", 1e6}, {"KB", 1e3}, {"B", 1}} {
		if rest, ok := strings.CutSuffix(number, u.name); ok {
			number, unit = strings.TrimSpace(rest), u.bytes
			break
		}
	}
	n, err := strconv.ParseFloat(number, 64)
	if unit == 0 || err != nil || !(n >= 0) || n*float64(unit) > 1<<60 {
		return fmt.Errorf("%q %s; write it like \"80 MB\"", text, not(text, "a size"))
	}
	*s = Size(n * float64(unit))
	return nil
}

// String writes a size in the unit people use, with three figures at most.
func (s Size) String() string {
	n := float64(s)
	switch {
	case n < 1e3:
		return fmt.Sprintf("%d B", s)
	case n < 1e6:
		return short(n/1e3) + " KB"
	case n < 1e9:
		return short(n/1e6) + " MB"
	}
	return short(n/1e9) + " GB"
}

func short(n float64) string {
	if n >= 99.95 {
		return strconv.FormatFloat(n, 'f', 0, 64)
	}
	return strings.TrimSuffix(strconv.FormatFloat(n, 'f', 1, 64), ".0")
}

// A Span is a length of time, written like "500ms", "30s" or "2m".
type Span time.Duration

// UnmarshalText reads a span as people write it.
func (s *Span) UnmarshalText(text []byte) error {
	d, err := time.ParseDuration(string(text))
	if err != nil || d <= 0 {
		return fmt.Errorf("%q %s; write it like \"30s\" or \"2m\"", text, not(text, "a length of time"))
	}
	*s = Span(d)
	return nil
}

// not says what is wrong with a text that should have been a number with a unit.
func not(text []byte, what string) string {
	if _, err := strconv.ParseFloat(string(text), 64); err == nil {
		return "has no unit"
	}
	return "is not " + what
}
