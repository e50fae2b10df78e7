package check

import (
	"fmt"

	"havvel/internal/export"
	"havvel/internal/finding"
	"havvel/internal/settings"
)

// What can be expected of a browser tab, in bytes. docs/memory.md says where the numbers come from.
const (
	PhoneTab   = 400e6  // a phone of a few years ago, before the system ends the tab
	DesktopTab = 2000e6 // a desktop browser
)

var memoryChecks = []*Check{
	{
		ID:    "memory-initial",
		Title: "WebAssembly asks for much memory at the start",
		Level: finding.Warning,
		Text: "A module names the memory that it wants before it starts. When the browser can't give it in one piece, the game ends before " +
			"its first picture, without a message that a player understands. Phones give a tab a few hundred MB. Lower the initial " +
			"memory in the engine's export settings, and let it grow.",
		Before: "an initial memory of 1 GB",
		After:  "an initial memory of 64 MB that may grow",
		Run: func(p *Pass) {
			for _, f := range p.Build.Parts() {
				if f.Wasm == nil {
					continue
				}
				for _, m := range f.Wasm.Memories {
					if m.Initial > PhoneTab {
						p.report(
							finding.Finding{
								File: f.Path,
								Message: fmt.Sprintf(
									"it asks for %s at the start; a phone's tab has about %s in all",
									settings.Size(m.Initial),
									settings.Size(PhoneTab),
								),
								Fix: "lower the initial memory in the engine's export settings, and let it grow",
							},
						)
					}
				}
			}
		},
	},
	{
		ID:    "memory-imported",
		Title: "A script gives WebAssembly its memory",
		Level: finding.Note,
		Text: "The module takes its memory from the page's script, so its size is decided there. havvel can't tell how much the script " +
			"asks for beyond what the module wants at least; havvel trial measures it.",
		Before: "a module that imports its memory",
		After:  "nothing to fix",
		Run: func(p *Pass) {
			for _, f := range p.Build.Parts() {
				if f.Wasm == nil {
					continue
				}
				for _, m := range f.Wasm.Memories {
					if m.Imported && m.Maximum > DesktopTab {
						p.report(
							finding.Finding{
								File: f.Path,
								Message: fmt.Sprintf(
									"its memory comes from a script and may grow to %s, more than a tab can be expected to give",
									settings.Size(m.Maximum),
								),
								Fix: "lower the largest memory in the engine's export settings if the game does not need it",
							},
						)
					}
				}
			}
		},
	},
	{
		ID:    "memory-textures",
		Title: "The pictures take much memory once decoded",
		Level: finding.Warning,
		Text: "A picture's file is small, but on the graphics card it takes four bytes a pixel: 4096 by 4096 pixels are 67 MB. When all " +
			"pictures " +
			"together take more than a tab gives, the game slows down or ends, on phones first. Make pictures as large as they are shown, " +
			"and load those of later levels later.",
		Before: "60 pictures of 4096 by 4096 pixels",
		After:  "60 pictures of 1024 by 1024 pixels",
		Run: overPhone(
			func(m export.Memory) int64 { return m.Textures },
			"all pictures together take %s once decoded",
			"make pictures as large as they are shown, and load later what is shown later",
		),
	},
	{
		ID:    "memory-picture",
		Title: "A picture is larger than graphics cards take",
		Level: finding.Warning,
		Text: "Many phones take textures of up to 4096 pixels a side, and few machines more than 16384. A larger picture is not shown, or the " +
			"browser makes it smaller.",
		Before: "backdrop.png, 8000 by 2000 pixels",
		After:  "backdrop.png, 4000 by 1000 pixels",
		Run: func(p *Pass) {
			for _, f := range p.Build.Parts() {
				if f.Media != nil && max(f.Media.Width, f.Media.Height) > 4096 {
					p.report(
						finding.Finding{
							File:    f.Path,
							Message: fmt.Sprintf("it is %d by %d pixels; many phones take up to 4096 a side", f.Media.Width, f.Media.Height),
							Fix:     "make it smaller, or cut it in pieces",
						},
					)
				}
			}
		},
	},
	{
		ID:    "memory-sounds",
		Title: "The sounds take much memory once decoded",
		Level: finding.Warning,
		Text: "A sound that is decoded whole takes four bytes for every sample: three minutes in stereo are 69 MB, however small the file. " +
			"Engines " +
			"can stream long music instead, and one channel is enough for most effects.",
		Before: "twenty pieces of music of three minutes, decoded at the start",
		After:  "music streamed, effects in one channel",
		Run: overPhone(
			func(m export.Memory) int64 { return m.Sounds },
			"all sounds together take %s if they are decoded whole",
			"let the engine stream music, and make effects one channel",
		),
	},
	{
		ID:    "memory-data",
		Title: "The packed data takes much memory",
		Level: finding.Warning,
		Text: "Engines that pack their data in one file keep it in memory, often beside the decoded pictures and sounds. Split it, so that " +
			"later " +
			"levels are loaded later.",
		Before: "a packed data file of 600 MB",
		After:  "a first part of 80 MB, others loaded later",
		Run: overPhone(
			func(m export.Memory) int64 { return m.Data },
			"packed data takes %s once loaded",
			"split the data in the engine's export settings",
		),
	},
}

// overPhone reports a part of what a build takes in memory when it alone is more than a phone's tab gives. words holds a
// place for the size.
func overPhone(part func(export.Memory) int64, words, fix string) func(*Pass) {
	return func(p *Pass) {
		if n := part(p.Build.Memory()); n > PhoneTab {
			p.report(
				finding.Finding{Message: fmt.Sprintf(words+"; a phone's tab has about %s in all", settings.Size(n), settings.Size(PhoneTab)), Fix: fix},
			)
		}
	}
}
