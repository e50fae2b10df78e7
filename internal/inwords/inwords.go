// Package inwords says counts, lists, lengths of time and paths as people do.
package inwords

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"time"
	"unicode"
)

// Files counts files.
func Files(n int) string { return Of(n, "1 file", fmt.Sprintf("%d files", n)) }

// Of picks a wording by number.
func Of(n int, one, many string) string {
	if n == 1 {
		return one
	}
	return many
}

// List joins names as people do: a, b and c.
func List(names []string) string {
	if len(names) < 2 {
		return strings.Join(names, "")
	}
	return strings.Join(names[:len(names)-1], ", ") + " and " + names[len(names)-1]
}

// There says which names there are: there is a, or there are a and b.
func There(names []string) string { return Of(len(names), "there is ", "there are ") + List(names) }

// Span writes a length of time as people say it: "3s", "1m 20s", "2h 5m". Parts that are nothing are left out.
func Span(d time.Duration) string {
	d = d.Round(time.Second)
	if d >= time.Hour {
		return parts(int(d.Hours()), "h", int(d.Minutes())%60, "m")
	}
	return parts(int(d.Minutes()), "m", int(d.Seconds())%60, "s")
}

func parts(large int, unit string, small int, smallUnit string) string {
	switch {
	case large == 0:
		return fmt.Sprintf("%d%s", small, smallUnit)
	case small == 0:
		return fmt.Sprintf("%d%s", large, unit)
	}
	return fmt.Sprintf("%d%s %d%s", large, unit, small, smallUnit)
}

// Near writes a path as briefly as it can be said from the current folder.
func Near(path string) string {
	here, err := os.Getwd()
	if err != nil {
		return path
	}
	short, err := filepath.Rel(here, path)
	if err != nil || strings.HasPrefix(short, filepath.Join("..", "..", "..")) {
		return path
	}
	return short
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
