package check

import (
	"fmt"
	"os"

	"havvel/internal/finding"
	"havvel/internal/settings"
)

var weightChecks = []*Check{
	{
		ID:    "weight-archive",
		Title: "The archive is over the portal's limit",
		Level: finding.Error,
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
		Level: finding.Error,
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
					p.report(
						finding.Finding{
							File:    f.Path,
							Message: fmt.Sprintf("it has %s; %s takes files up to %s", settings.Size(f.Bytes), p.Rules.Name, limit),
							Fix:     "split it, or make what is in it smaller",
						},
					)
				}
			}
		},
	},
	{
		ID:    "weight-count",
		Title: "There are more files than the portal takes",
		Level: finding.Error,
		Text: "The portal refuses archives with more files than its limit. Pack small pictures into sheets and small sounds into " +
			"banks; most engines have an export setting for it.",
		Before: "2,300 files where 1,500 are allowed",
		After:  "140 files",
		Run: func(p *Pass) {
			if p.Rules == nil || p.Rules.Archive.Files == 0 {
				return
			}
			if n, most := len(p.Build.Parts()), p.Rules.Archive.Files; n > most {
				p.report(
					finding.Finding{
						Message: fmt.Sprintf("there are %d files; %s takes up to %d", n, p.Rules.Name, most),
						Fix:     "pack small pictures and sounds together in the engine's export settings",
					},
				)
			}
		},
	},
	{
		ID:    "weight-start",
		Title: "Much is downloaded before the game can start",
		Level: finding.Warning,
		Text: "Players leave when a loading bar takes too long. What the entry page, its scripts, WebAssembly and packed data weigh is " +
			"downloaded " +
			"before the first picture. Load music, later levels and films when they are needed; most engines can split their data. Portals " +
			"name a limit in their rulebook; without one, 50 MB is a lot.",
		Before: "120 MB before the title screen",
		After:  "18 MB before the title screen, the rest while playing",
		Run: func(p *Pass) {
			limit := settings.Size(50e6)
			who := "that is more than most players wait for"
			if p.Rules != nil && p.Rules.Limits.Start > 0 {
				limit, who = p.Rules.Limits.Start, fmt.Sprintf("%s wants at most %s", p.Rules.Name, p.Rules.Limits.Start)
			}
			if start := p.Build.Start(); start.Bytes > int64(limit) {
				p.report(
					finding.Finding{
						Message: fmt.Sprintf("about %s are downloaded before the game can start; %s", settings.Size(start.Bytes), who),
						Fix:     "load parts of the game later; havvel look shows what comes first",
					},
				)
			}
		},
	},
	{
		ID:    "weight-sound",
		Title: "A large sound without compression",
		Level: finding.Warning,
		Text: "A WAV file is about ten times as large as the same sound compressed. Use Ogg, MP3 or MP4 (AAC) for music and long sounds; " +
			"players won't hear the difference.",
		Before: "music.wav, 24 MB",
		After:  "music.ogg, 2.3 MB",
		Run: func(p *Pass) {
			for _, f := range p.Build.Parts() {
				if f.Media != nil && f.Media.Format == "WAV" && f.Bytes > 1_000_000 {
					p.report(
						finding.Finding{
							File: f.Path,
							Message: fmt.Sprintf(
								"it is a sound of %s without compression; compressed it would have about %s",
								settings.Size(f.Bytes),
								settings.Size(f.Bytes/10),
							),
							Fix: "export it as Ogg, MP3 or MP4",
						},
					)
				}
			}
		},
	},
	{
		ID:     "weight-bitmap",
		Title:  "A large picture without compression",
		Level:  finding.Warning,
		Text:   "A BMP file holds every pixel as it is. As PNG or WebP the same picture is a fraction of the size.",
		Before: "lane.bmp, 8 MB",
		After:  "lane.png, 0.9 MB",
		Run: func(p *Pass) {
			for _, f := range p.Build.Parts() {
				if f.Media != nil && f.Media.Format == "BMP" && f.Bytes > 100_000 {
					p.report(
						finding.Finding{
							File:    f.Path,
							Message: fmt.Sprintf("it is a picture of %s without compression", settings.Size(f.Bytes)),
							Fix:     "save it as PNG or WebP",
						},
					)
				}
			}
		},
	},
	{
		ID:     "weight-same",
		Title:  "The same file is there twice",
		Level:  finding.Note,
		Text:   "Two files have the same content. Each is uploaded, stored and downloaded by itself. Keep one, and let both links lead to it.",
		Before: "music/night.ogg and old/night.ogg, with the same content",
		After:  "music/night.ogg",
		Run: func(p *Pass) {
			for _, same := range p.Build.Duplicates() {
				if same[0].Bytes >= 50_000 {
					p.report(
						finding.Finding{
							File:    same[1].Path,
							Message: fmt.Sprintf("it has the same content as %s (%s)", same[0].Path, settings.Size(same[0].Bytes)),
							Fix:     "keep one of them",
						},
					)
				}
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
			p.report(finding.Finding{
				Message: fmt.Sprintf("the archive has %s; %s takes up to %s", settings.Size(info.Size()), p.Rules.Name, p.Rules.Archive.Limit),
				Fix:     fmt.Sprintf("take away at least %s; havvel look shows the largest files", settings.Size(info.Size()-limit)),
			})
		}
		return
	}
	if p.Build.Bytes > limit {
		p.report(finding.Finding{
			Level: finding.Warning,
			Message: fmt.Sprintf(
				"the files have %s before packing; %s takes archives up to %s",
				settings.Size(p.Build.Bytes),
				p.Rules.Name,
				p.Rules.Archive.Limit,
			),
			Fix: "havvel pack says how large the archive is",
		})
	}
}
