package project

import (
	"os"
	"path/filepath"
	"strings"

	"havvel/internal/settings"
)

// Problem is an error about the project file, as all others are.
func (p *Project) Problem(err error) error {
	return &settings.Problem{File: filepath.Join(p.Folder, Name), Message: err.Error()}
}

// Line is where a key such as "listing.tagline" is written in havvel.toml, from 1: under the destination where it has one of its
// own, or for all; of its table where the key itself is not there; else 0.
func (p *Project) Line(destination, key string) int {
	data, err := os.ReadFile(filepath.Join(p.Folder, Name))
	if err != nil {
		return 0
	}
	table, _, _ := strings.Cut(key, ".")
	for _, path := range []string{"to." + destination + "." + key, key, table} {
		if line := settings.Line(data, path); line > 0 {
			return line
		}
	}
	return 0
}
