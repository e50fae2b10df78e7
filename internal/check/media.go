package check

import (
	"fmt"
	"path"
	"slices"
	"strings"

	"havvel/internal/export"
	"havvel/internal/finding"
)

// formatEndings are the endings that fit a format's content.
var formatEndings = map[string][]string{
	"PNG": {
		".png",
		".apng",
		".ico",
	}, "JPEG": {".jpg", ".jpeg", ".jfif"}, "WebP": {".webp"}, "GIF": {".gif"}, "AVIF": {".avif"}, "BMP": {".bmp", ".ico"},
	"WAV": {
		".wav",
		".wave",
	}, "Ogg": {".ogg", ".oga", ".opus", ".ogv"}, "MP3": {".mp3", ".mpga"}, "MP4": {".mp4", ".m4a", ".m4v", ".aac", ".mov"}, "FLAC": {".flac"},
}

var mediaChecks = []*Check{
	{
		ID:    "media-type",
		Title: "A picture or sound is not what its name says",
		Level: finding.Warning,
		Text: "The content is of another format than the name's ending says. Hosts tell browsers the type by the ending; some browsers, and " +
			"some engines, " +
			"then refuse the file. Save it in the format that its name says.",
		Before: "lane.png, which is a JPEG inside",
		After:  "lane.jpg",
		Run: func(p *Pass) {
			for _, f := range p.Build.Parts() {
				if f.Media == nil {
					continue
				}
				ending := strings.ToLower(path.Ext(f.Path))
				if known := anyFormat(ending); known != "" && !slices.Contains(formatEndings[f.Media.Format], ending) {
					p.report(
						finding.Finding{
							File:    f.Path,
							Message: fmt.Sprintf("its name says %s, but it is %s", known, f.Media.Format),
							Fix:     "save it in the format that its name says, or change the name here and where it is named",
						},
					)
				}
			}
		},
	},
	{
		ID:    "media-broken",
		Title: "A picture or sound can't be read",
		Level: finding.Warning,
		Text: "The file has the name of a picture or sound, but its beginning is not that of any format that browsers know, or it is empty. " +
			"It won't be shown " +
			"or heard. Export it again; a copy may have broken off, or a pointer to a large file was copied in its place.",
		Before: "lane.png of 0 bytes",
		After:  "lane.png, whole",
		Run: func(p *Pass) {
			for _, f := range p.Build.Parts() {
				ending := strings.ToLower(path.Ext(f.Path))
				if known := anyFormat(ending); known != "" && f.Encoding == "" && (f.Media == nil || f.Media.Picture() && f.Media.Height == 0) &&
					ending != ".ico" &&
					ending != ".aac" {
					p.report(
						finding.Finding{File: f.Path, Message: fmt.Sprintf("its name says %s, but it can't be read as one", known), Fix: "export it again"},
					)
				}
			}
		},
	},
	{
		ID:    "media-ogg",
		Title: "Sounds that not every browser plays",
		Level: finding.Note,
		Text: "Older phones and browsers of one maker don't play Ogg. If your players have such devices, keep an MP3 or MP4 beside it; most " +
			"engines choose the " +
			"one that plays.",
		Before: "night.ogg alone",
		After:  "night.ogg and night.m4a",
		Run: func(p *Pass) {
			ogg, other, first := 0, 0, ""
			for _, f := range p.Build.Parts() {
				if f.Kind != export.KindSound || f.Media == nil {
					continue
				}
				if f.Media.Format == "Ogg" {
					ogg++
					if first == "" {
						first = f.Path
					}
				} else if f.Media.Format != "FLAC" {
					other++
				}
			}
			if ogg > 0 && other == 0 {
				message := fmt.Sprintf("all %d sounds are Ogg, which older phones don't play", ogg)
				if ogg == 1 {
					message = "the only sound is Ogg, which older phones don't play"
				}
				p.report(finding.Finding{File: first, Message: message, Fix: "keep MP3 or MP4 beside them if your players have such phones"})
			}
		},
	},
	{
		ID:    "media-json",
		Title: "A JSON file can't be read",
		Level: finding.Warning,
		Text: "The file has the name of a JSON file, but is not valid JSON: a comma too many, a comment, or a part that is missing. The " +
			"game fails when it " +
			"loads it.",
		Before: `{"nights": 24,}`,
		After:  `{"nights": 24}`,
		Run: func(p *Pass) {
			for _, f := range p.Build.Parts() {
				if f.Kind == export.KindText && f.Damage != "" && f.Encoding == "" {
					p.report(finding.Finding{File: f.Path, Message: f.Damage, Fix: "fix it, or leave it out if the game doesn't load it"})
				}
			}
		},
	},
}

// anyFormat is the format that an ending stands for, or "".
func anyFormat(ending string) string {
	if ending == ".ico" {
		return "" // several formats go by this name
	}
	for format, endings := range formatEndings {
		if slices.Contains(endings, ending) {
			return format
		}
	}
	return ""
}
