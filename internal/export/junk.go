package export

import (
	"path"
	"strings"
)

// junkNames are files and folders that systems, editors and version control leave behind.
var junkNames = map[string]string{
	".ds_store":    "left by the file manager",
	"thumbs.db":    "left by the file manager",
	"desktop.ini":  "left by the file manager",
	"__macosx":     "left by the program that made a zip",
	".git":         "version control",
	".svn":         "version control",
	".hg":          "version control",
	".gitignore":   "version control",
	".vscode":      "an editor's settings",
	".idea":        "an editor's settings",
	".havvel":      "havvel's own",
	"havvel.toml":  "havvel's own",
	"node_modules": "tools of the build, not part of the game",
}

// junk says why a file does not belong in a build, or "".
func junk(name string) string {
	for part := range strings.SplitSeq(strings.ToLower(name), "/") {
		if why, ok := junkNames[part]; ok {
			return why
		}
	}
	base := path.Base(name)
	switch {
	case strings.HasPrefix(base, "._"):
		return "left by the file manager"
	case strings.HasSuffix(base, "~"), strings.HasSuffix(base, ".swp"), strings.HasSuffix(base, ".orig"), strings.HasSuffix(base, ".bak"):
		return "left by an editor"
	}
	return ""
}
