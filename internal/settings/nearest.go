package settings

import (
	"slices"
	"strings"
)

// Nearest returns the known word that is closest to the one written, or "" when none is close.
func Nearest(written string, known []string) string {
	for _, k := range known {
		if strings.EqualFold(written, k) {
			return k
		}
	}
	best, distance := "", len(written)/2+1
	for _, k := range known {
		if d := edits(written, k); d < distance {
			best, distance = k, d
		}
	}
	return best
}

// edits counts the letters to insert, remove or change to get from a to b.
func edits(a, b string) int {
	row := make([]int, len(b)+1)
	for j := range row {
		row[j] = j
	}
	for i := range len(a) {
		diagonal := row[0]
		row[0] = i + 1
		for j := range len(b) {
			cost := diagonal
			if a[i] != b[j] {
				cost++
			}
			diagonal = row[j+1]
			row[j+1] = slices.Min([]int{cost, row[j] + 1, row[j+1] + 1})
		}
	}
	return row[len(b)]
}
