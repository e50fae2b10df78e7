package check

var leftoverChecks = []*Check{
	{
		ID:    "leftover-junk",
		Title: "Files that don't belong in a build",
		Level: Warning,
		Text: "File managers, editors and version control leave files behind. In a build they cost room, tell strangers about the " +
			"developer's machine, and some portals refuse them. havvel pack leaves them out.",
		Before: ".DS_Store, notes.txt~",
		After:  "neither",
		Run: func(p *Pass) {
			for _, f := range p.Build.Files {
				if f.Junk != "" {
					p.mended(Finding{File: f.Path, Message: "it does not belong in a build: " + f.Junk}, "pack leaves it out", "take it out")
				}
			}
		},
	},
}
