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
	from, ok := rebased(from, base)
	if !ok {
		return "", Outside
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

// rebased is the path from which targets are resolved in the file from, of a page with that base; it starts with a slash
// when the base is a path from the host's root. ok is false when the base leads elsewhere.
func rebased(from, base string) (at string, ok bool) {
	if base == "" {
		return from, true
	}
	b, err := url.Parse(base)
	if err != nil || b.IsAbs() || b.Host != "" {
		return "", false
	}
	if strings.HasPrefix(b.Path, "/") {
		return "/" + strings.TrimPrefix(path.Join(b.Path, "x"), "/"), true
	}
	return path.Join(path.Dir(from), b.Path+"x"), true
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
