package web

import (
	"net/url"
	"path"
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
	if base != "" {
		b, err := url.Parse(base)
		if err != nil || b.IsAbs() || b.Host != "" {
			return "", Outside
		}
		if strings.HasPrefix(b.Path, "/") {
			from = "/" + strings.TrimPrefix(path.Join(b.Path, "x"), "/")
		} else {
			from = path.Join(path.Dir(from), b.Path+"x")
		}
	}
	u, err := url.Parse(strings.TrimSpace(target))
	if err != nil {
		return "", Nowhere
	}
	switch {
	case u.Scheme == "http" || u.Scheme == "https" || u.Host != "":
		return "", Outside
	case u.Scheme != "" || u.Path == "":
		return "", Nowhere
	case strings.HasPrefix(u.Path, "/"):
		return strings.TrimPrefix(path.Clean(u.Path), "/"), Absolute
	case strings.HasPrefix(from, "/"):
		return strings.TrimPrefix(path.Join(path.Dir(from), u.Path), "/"), Absolute
	}
	return path.Join(path.Dir(from), u.Path), Inside
}
