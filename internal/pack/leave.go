package pack

import (
	"context"
	"path"
	"slices"
	"strings"

	"havvel/internal/settings"
)

// StampName is the file that says which build this is.
const StampName = "havvel-build.json"

// leaveOut takes what does not belong to the build out of the plan.
func leaveOut(_ context.Context, p *Plan) error {
	for _, f := range p.build.Files {
		if f.Junk != "" {
			p.note("leave-out", 0, f.Junk, "%s", f.Path)
		}
	}
	for _, it := range slices.Clone(p.Items) {
		if it == p.entry {
			continue
		}
		if pattern := matching(p.to.LeaveOut, it.Name); pattern != "" {
			p.note("leave-out", -it.Size(), "havvel.toml names "+pattern, "%s", it.From.Path)
			p.drop(it)
		} else if it.Name == StampName {
			p.drop(it) // of an earlier pack
		}
	}
	if !p.to.LeaveUnused {
		return nil
	}
	for _, f := range p.build.Unlinked() {
		if it := p.of[f]; it != nil {
			p.note("leave-out", -it.Size(), "nothing is known to load it, and havvel.toml says leave_unused", "%s", f.Path)
			p.drop(it)
		}
	}
	return nil
}

// matching returns the first pattern that a name matches: a file, a folder with a slash at its end, or a pattern with
// stars for one of its parts or for the whole.
func matching(patterns []string, name string) string {
	for _, pattern := range patterns {
		if folder, ok := strings.CutSuffix(pattern, "/"); ok {
			if strings.HasPrefix(name, folder+"/") {
				return pattern
			}
			continue
		}
		whole, _ := path.Match(pattern, name) // a broken pattern was refused when havvel.toml was read
		last, _ := path.Match(pattern, path.Base(name))
		if whole || last {
			return pattern
		}
	}
	return ""
}

// size is a number of bytes in words.
func size(n int64) string { return settings.Size(n).String() }
