// Package release knows which havvel this is.
package release

import (
	"regexp"
	"strings"

	"golang.org/x/mod/semver"
)

// version and day are stamped in by the linker.
var version, day = "built from source", ""

// Version is the version, as in "1.4.0"; "built from source" where nobody gave it one.
func Version() string { return strings.TrimPrefix(version, "v") }

// Day is when it was released, as in "2026-11-29"; "" where that is not known.
func Day() string { return day }

var number = regexp.MustCompile(`^v?\d+\.\d+(\.\d+)?(-[0-9A-Za-z.-]+)?$`)

// IsNumber reports whether a text is a version's number.
func IsNumber(text string) bool { return number.MatchString(text) }

// Older reports whether this havvel is older than a version. One without a number is as new as can be.
func Older(than string) bool { return older(version, than) }

func older(this, than string) bool {
	if !IsNumber(this) || !IsNumber(than) {
		return false
	}
	return semver.Compare(canonical(this), canonical(than)) < 0
}

func canonical(v string) string { return "v" + strings.TrimPrefix(v, "v") }
