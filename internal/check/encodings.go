package check

import (
	"fmt"
	"slices"
	"strings"
)

var encodingChecks = []*Check{
	{
		ID:    "encoding-unserved",
		Title: "A precompressed file that the host can't serve",
		Level: Error,
		Text: "Engines can write files that are compressed already, to be served with a Content-Encoding header. A host that " +
			"doesn't send this header hands the browser compressed bytes as if they were the file, and the game stops on its " +
			"loading bar. Turn compression off in the engine's export settings, or choose one that the portal serves; portals " +
			"compress on the way by themselves.",
		Before: "lane.pack.br on a portal that serves gzip only",
		After:  "lane.pack, or lane.pack.gz",
		Run: func(p *Pass) {
			if p.Rules == nil {
				return
			}
			for _, f := range p.Build.Parts() {
				if f.Encoding == "" || slices.Contains(p.Rules.Serves.Encodings, f.Encoding) {
					continue
				}
				p.report(Finding{
					File:    f.Path,
					Message: fmt.Sprintf("it is compressed with %s, and %s %s; the game would stop on its loading bar", encodingName(f.Encoding), p.Rules.Name, served(p.Rules.Serves.Encodings)),
					Fix:     encodingFix(p.Rules.Serves.Encodings),
				})
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
