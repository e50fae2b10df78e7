package project

import (
	"path/filepath"
	"strings"

	"havvel/internal/fault"
)

// Problem is an error about the value of a path in the project file, such as "listing.tagline" or "trial.steps[2]".
func (p *Project) Problem(path, format string, args ...any) *fault.Error {
	f := fault.New(fault.Usage, format, args...)
	f.At.File = filepath.Join(p.Folder, Name)
	if p.doc != nil {
		f.At = p.doc.At(path)
	}
	return f
}

// Line is where a key such as "listing.tagline" is written in havvel.toml, from 1: under the destination where it has one of its
// own, or for all; of its table where the key itself is not there; else 0.
func (p *Project) Line(destination, key string) int {
	if path := p.Path(destination, key); path != "" {
		return p.doc.At(path).Line
	}
	return 0
}

// Path is that of a key such as "listing.tagline", under the destination where it has one of its own, or for all; of its table where
// the key itself is not there; else "".
func (p *Project) Path(destination, key string) string {
	table, _, _ := strings.Cut(key, ".")
	for _, path := range []string{"to." + destination + "." + key, key, table} {
		if p.doc != nil && p.doc.Has(path) {
			return path
		}
	}
	return ""
}
