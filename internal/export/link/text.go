package link

import (
	"bytes"
	"path"
	"sort"
	"strings"
)

// Limits on what is read of one file, however large it is.
const (
	MaxLinks  = 50_000
	MaxTarget = 300 // letters of a name in a script or data
)

// IsRelative reports whether a script may be imported by that text: it is an address, and no name alone.
func IsRelative(text string) bool {
	return strings.HasPrefix(text, "./") || strings.HasPrefix(text, "../") || strings.HasPrefix(text, "/") || IsAddress(text)
}

// IsAddress reports whether a text names its host.
func IsAddress(text string) bool {
	for _, scheme := range []string{"http://", "https://", "//", "ws://", "wss://"} {
		if strings.HasPrefix(text, scheme) {
			return true
		}
	}
	return false
}

// IsFolder reports whether a text could be the name of a folder, to be put before that of a file.
func IsFolder(text string) bool {
	return len(text) > 2 && strings.HasSuffix(text, "/") && !strings.ContainsAny(text, " <>{}()|=;,:\n")
}

// LooksLikePath reports whether a text could be the name of a file: it ends in a dot and a few letters.
func LooksLikePath(text string) bool {
	if end := strings.IndexAny(text, "?#"); end > 0 {
		text = text[:end]
	}
	ending := path.Ext(text)
	if len(ending) < 2 || len(ending) > 12 || len(ending) == len(text) || strings.ContainsAny(text, "<>{}()|=;,\n\r\t\"") {
		return false
	}
	letter := false
	for _, c := range ending[1:] {
		switch {
		case c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z':
			letter = true
		case c >= '0' && c <= '9' || c == '_' || c == '-':
		default:
			return false
		}
	}
	return letter
}

// Lines finds the line and column of an offset.
type Lines []int

// NewLines reads where the lines of a file begin.
func NewLines(data []byte) Lines {
	starts := Lines{0}
	for at := 0; ; {
		n := bytes.IndexByte(data[at:], '\n')
		if n < 0 {
			return starts
		}
		at += n + 1
		starts = append(starts, at)
	}
}

// Place is the line and column of an offset, from 1.
func (l Lines) Place(offset int) (line, column int) {
	line = sort.SearchInts(l, offset+1)
	return line, offset - l[line-1] + 1
}
