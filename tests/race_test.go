//go:build race

package tests

// The program is built with the race detector, too, where the tests are.
func init() {
	buildFlags = append(buildFlags, "-race")
	raced = true
	patience *= 5
}
