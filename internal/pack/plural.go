package pack

import "fmt"

// count is a number of things in words.
func count(n int, what string) string {
	if n == 1 {
		return "1 " + what
	}
	return fmt.Sprintf("%d %ss", n, what)
}

func verb(n int, one, many string) string {
	if n == 1 {
		return one
	}
	return many
}
