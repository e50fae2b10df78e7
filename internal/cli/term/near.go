package term

import (
	"os"
	"path/filepath"
	"strings"
)

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
