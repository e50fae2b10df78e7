package check

import (
	"fmt"
	"os"

	"havvel/internal/settings"
)

var weightChecks = []*Check{
	{
		ID:    "weight-archive",
		Title: "The archive is over the portal's limit",
		Level: Error,
		Text: "The portal refuses archives over its limit, after the whole upload. havvel look shows the largest files: " +
			"sounds without compression and pictures larger than any screen are the usual ones. For a folder the archive's " +
			"size is known only once it is packed; until then this is a warning.",
		Before: "an archive of 91 MB where 80 MB are allowed",
		After:  "an archive of 62 MB",
		Run:    archiveWeight,
	},
	{
		ID:    "weight-file",
		Title: "A file is over the portal's limit",
		Level: Error,
		Text: "The portal refuses single files over its limit. Most often it is the packed data file; many engines can split " +
			"it, or load parts of the game later.",
		Before: "lane.pack of 75 MB where 60 MB are allowed",
		After:  "lane-1.pack of 40 MB, lane-2.pack of 35 MB",
		Run: func(p *Pass) {
			if p.Rules == nil || p.Rules.Archive.FileLimit == 0 {
				return
			}
			for _, f := range p.Build.Parts() {
				if limit := p.Rules.Archive.FileLimit; f.Bytes > int64(limit) {
					p.report(Finding{File: f.Path, Message: fmt.Sprintf("it has %s; %s takes files up to %s", settings.Size(f.Bytes), p.Rules.Name, limit), Fix: "split it, or make what is in it smaller"})
				}
			}
		},
	},
	{
		ID:    "weight-count",
		Title: "There are more files than the portal takes",
		Level: Error,
		Text: "The portal refuses archives with more files than its limit. Pack small pictures into sheets and small sounds into " +
			"banks; most engines have an export setting for it.",
		Before: "2,300 files where 1,500 are allowed",
		After:  "140 files",
		Run: func(p *Pass) {
			if p.Rules == nil || p.Rules.Archive.Files == 0 {
				return
			}
			if n, most := len(p.Build.Parts()), p.Rules.Archive.Files; n > most {
				p.report(Finding{Message: fmt.Sprintf("there are %d files; %s takes up to %d", n, p.Rules.Name, most), Fix: "pack small pictures and sounds together in the engine's export settings"})
			}
		},
	},
}

func archiveWeight(p *Pass) {
	if p.Rules == nil || p.Rules.Archive.Limit == 0 {
		return
	}
	limit := int64(p.Rules.Archive.Limit)
	if p.Build.Source == "zip" && !p.Packed {
		if info, err := os.Stat(p.Build.Path); err == nil && info.Size() > limit {
			p.report(Finding{
				Message: fmt.Sprintf("the archive has %s; %s takes up to %s", settings.Size(info.Size()), p.Rules.Name, p.Rules.Archive.Limit),
				Fix:     fmt.Sprintf("take away at least %s; havvel look shows the largest files", settings.Size(info.Size()-limit)),
			})
		}
		return
	}
	if p.Build.Bytes > limit {
		p.report(Finding{
			Level:   Warning,
			Message: fmt.Sprintf("the files have %s before packing; %s takes archives up to %s", settings.Size(p.Build.Bytes), p.Rules.Name, p.Rules.Archive.Limit),
			Fix:     "havvel pack says how large the archive is",
		})
	}
}
