package web

import (
	"encoding/hex"
	"path"
	"regexp"
	"slices"
	"strings"
)

// Where says what kind of place a target leads to.
type Where int

const (
	Nowhere  Where = iota // data:, blob:, a script, a fragment: nothing that is loaded
	Inside                // a path relative to the file
	Absolute              // a path from the host's root
	Outside               // another origin
)

// Resolve says where a target leads when it stands in the file from (a path in the export) of a page
// with that base. For Inside and Absolute, file is the path in the export, percent-decoded and
// without query and fragment; it starts with "../" when it leads out of the export.
func Resolve(from, base, target string) (file string, where Where) {
	from, ok := rebased(from, base)
	if !ok {
		return "", Outside
	}
	scheme, rest := split(target)
	switch {
	case scheme == "http" || scheme == "https" || otherHost(rest):
		return "", Outside
	case scheme != "" || rest == "":
		return "", Nowhere
	}
	name := decoded(rest)
	switch {
	case strings.HasPrefix(name, "/"):
		return strings.TrimPrefix(path.Clean(name), "/"), Absolute
	case strings.HasPrefix(from, "/"):
		return strings.TrimPrefix(path.Join(path.Dir(from), name), "/"), Absolute
	}
	return path.Join(path.Dir(from), name), Inside
}

// split takes an address apart as browsers do (the URL Standard, section 4.4): without white space around it and line ends in it, a
// scheme in small letters, and what is behind it, up to a query or fragment. Where there is no scheme, a backslash is a slash.
func split(target string) (scheme, rest string) {
	rest = strings.TrimFunc(target, func(r rune) bool { return r <= ' ' })
	rest = strings.NewReplacer("\t", "", "\n", "", "\r", "").Replace(rest)
	if before, after, ok := strings.Cut(rest, ":"); ok && schemeForm.MatchString(before) {
		scheme, rest = strings.ToLower(before), after
	}
	if i := strings.IndexAny(rest, "?#"); i >= 0 {
		rest = rest[:i]
	}
	if scheme == "" {
		rest = strings.ReplaceAll(rest, `\`, "/")
	}
	return scheme, rest
}

// otherHost reports whether what is behind a scheme, or stands alone, begins with a host.
func otherHost(rest string) bool { return len(rest) > 2 && strings.HasPrefix(rest, "//") }

var schemeForm = regexp.MustCompile(`^[a-zA-Z][a-zA-Z0-9+.-]*$`)

// code is a percent sign, with the byte in hexadecimal digits that it stands for; or without, where it stands for itself.
var code = regexp.MustCompile(`%([0-9A-Fa-f]{2})?`)

// decoded is a path without percent-encoding. As in browsers, a percent sign that begins no code stays.
func decoded(p string) string {
	return code.ReplaceAllStringFunc(p, func(c string) string {
		if b, err := hex.DecodeString(c[1:]); err == nil && len(b) == 1 {
			return string(b)
		}
		return c
	})
}

// Bare reports whether a percent sign in the path of an address begins no code. Browsers ask for it as it is, and many hosts refuse that
// (RFC 3986, section 2.4).
func Bare(target string) bool {
	_, rest := split(target)
	return slices.Contains(code.FindAllString(rest, -1), "%")
}

// rebased is the path from which targets are resolved in the file from, of a page with that base; it starts with a slash
// when the base is a path from the host's root. ok is false when the base leads elsewhere.
func rebased(from, base string) (at string, ok bool) {
	if base == "" {
		return from, true
	}
	scheme, rest := split(base)
	if scheme != "" || otherHost(rest) {
		return "", false
	}
	name := decoded(rest)
	if strings.HasPrefix(name, "/") {
		return "/" + strings.TrimPrefix(path.Join(name, "x"), "/"), true
	}
	return path.Join(path.Dir(from), name+"x"), true
}

// Folder is the folder that targets are relative to in the file from, of a page with that base: a path in the export, and
// the root, ".", for a base at the host's root or elsewhere.
func Folder(from, base string) string {
	from, ok := rebased(from, base)
	if !ok {
		return "."
	}
	return path.Dir(strings.TrimPrefix(from, "/"))
}
