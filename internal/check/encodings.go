package check

import (
	"fmt"
	"slices"
	"strings"

	"havvel/internal/export"
	"havvel/internal/finding"
)

var encodingChecks = []*Check{
	{
		ID:    "encoding-unserved",
		Title: "A precompressed file that the host can't serve",
		Level: finding.Error,
		Text: "Engines can write files that are compressed already, to be served with a Content-Encoding header. A host that " +
			"doesn't send this header hands the browser compressed bytes as if they were the file, and the game stops on its " +
			"loading bar. Turn compression off in the engine's export settings, or choose one that the portal serves; portals " +
			"compress on the way by themselves.",
		Before: "lane.pack.br on a portal that serves gzip only",
		After:  "lane.pack, or lane.pack.gz",
		Run: func(p *Pass) {
			for _, f := range p.Build.Parts() {
				named := hasAnySuffix(strings.ToLower(f.Path), ".gz", ".gzip", ".br")
				if f.Encoding == "" || !named {
					continue // under another name a host serves it as it is, and the game unpacks it itself
				}
				if p.Rules == nil {
					p.report(finding.Finding{Level: finding.Warning, File: f.Path, Message: fmt.Sprintf("it is compressed with %s; only a host that sends Content-Encoding for such files can serve it", encodingName(f.Encoding)), Fix: "set compression to none in the engine's export settings, unless you know that the host does"})
					continue
				}
				if slices.Contains(p.Rules.Serves.Encodings, f.Encoding) {
					continue
				}
				found := finding.Finding{
					Level: finding.Error, File: f.Path, Fix: encodingFix(p.Rules.Serves.Encodings),
					Message: fmt.Sprintf("it is compressed with %s, and %s %s; the game would stop on its loading bar", encodingName(f.Encoding), p.Rules.Name, served(p.Rules.Serves.Encodings)),
				}
				lost := p.Build.Followed(f, f.PlainPath())
				switch {
				case f.Encoding == "gzip" && anyWord(p.Build, "DecompressionStream"):
					found.Level = finding.Warning // the game may unpack it itself
					p.report(found)
				case lost == nil, p.Build.File(f.PlainPath()) != nil:
					p.mended(found, "recode", "pack packs it in a form that "+p.Rules.Name+" can serve, and its links follow", found.Fix)
				default:
					found.Message += "; pack can't mend it: " + lost.Error()
					p.report(found)
				}
			}
		},
	},
	{
		ID:    "encoding-damaged",
		Title: "A compressed file is damaged",
		Level: finding.Error,
		Text: "The file is compressed, but can't be decoded to its end: it was cut off, or damaged on the way. The browser stops with an " +
			"error when it loads it. Export the game again.",
		Before: "lane.pack.gz, of which the second half is missing",
		After:  "lane.pack.gz, whole",
		Run: func(p *Pass) {
			for _, f := range p.Build.Parts() {
				if f.Encoding != "" && f.Damage != "" && f.Kind != export.KindWasm {
					p.report(finding.Finding{File: f.Path, Message: f.Damage, Fix: "export the game again"})
				}
			}
		},
	},
	{
		ID:    "encoding-name",
		Title: "A name says that a file is compressed, and it isn't",
		Level: finding.Error,
		Text: "A file whose name ends in .gz or .br is served as compressed by hosts that do this. When it is not, the browser can't decode " +
			"it and the game stops. Most often a host or a program has unpacked the file and kept its name.",
		Before: "lane.pack.gz, which is not compressed",
		After:  "lane.pack",
		Run: func(p *Pass) {
			for _, f := range p.Build.Parts() {
				if low := strings.ToLower(f.Path); f.Encoding == "" && f.Bytes > 0 && (strings.HasSuffix(low, ".gz") || strings.HasSuffix(low, ".br")) {
					p.report(finding.Finding{File: f.Path, Message: "its name says that it is compressed, but it isn't; browsers would fail to decode it", Fix: "export the game again, or take the ending away here and where the file is named"})
				}
			}
		},
	},
	{
		ID:    "encoding-hidden",
		Title: "A compressed file under a plain name",
		Level: finding.Warning,
		Text: "The file is compressed, but its name doesn't say so. A host serves it as it is, and the browser takes the compressed bytes for the " +
			"file, unless the game unpacks it itself or the host was told to send Content-Encoding for it.",
		Before: "game.wasm, which is compressed with gzip inside",
		After:  "game.wasm, or game.wasm.gz",
		Run: func(p *Pass) {
			for _, f := range p.Build.Parts() {
				if f.Encoding != "gzip" || f.Kind != export.KindWasm && f.Kind != export.KindScript && f.Kind != export.KindPage && f.Kind != export.KindStyle {
					continue
				}
				if low := strings.ToLower(f.Path); strings.HasSuffix(low, ".wasm") || strings.HasSuffix(low, ".js") || strings.HasSuffix(low, ".html") || strings.HasSuffix(low, ".css") {
					p.report(finding.Finding{File: f.Path, Message: "it is compressed with gzip, but its name doesn't say so; a host would serve it as it is", Fix: "set compression to none in the engine's export settings and export again"})
				}
			}
		},
	},
	{
		ID:    "encoding-twice",
		Title: "A file is there both compressed and plain",
		Level: finding.Note,
		Text: "The build holds the same file plain and compressed. Hosts that choose between them use one; on all others the second only " +
			"makes the archive larger.",
		Before: "lane.pack, lane.pack.gz",
		After:  "lane.pack",
		Run: func(p *Pass) {
			for _, f := range p.Build.Parts() {
				if f.Encoding == "" {
					continue
				}
				for _, ending := range []string{".gz", ".br"} {
					if plain, ok := strings.CutSuffix(f.Path, ending); ok && p.Build.File(plain) != nil {
						p.report(finding.Finding{File: f.Path, Message: fmt.Sprintf("%s is there too, not compressed", plain), Fix: "keep the one that the host can serve"})
					}
				}
			}
		},
	},
}

func encodingName(e string) string {
	if e == "br" {
		return "brotli"
	}
	return e
}

func served(encodings []string) string {
	if len(encodings) == 0 {
		return "can't serve compressed files"
	}
	return "serves only " + names(encodings)
}

func names(encodings []string) string {
	var list []string
	for _, e := range encodings {
		list = append(list, encodingName(e))
	}
	return strings.Join(list, " and ")
}

func encodingFix(encodings []string) string {
	fix := "set compression to none"
	if len(encodings) > 0 {
		fix += ", or to " + names(encodings) + ","
	}
	return fix + " in the engine's export settings and export again"
}
