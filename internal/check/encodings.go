package check

import (
	"fmt"
	"strings"

	"havvel/internal/export"
	"havvel/internal/export/encoding"
	"havvel/internal/finding"
	"havvel/internal/hosting"
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
			if p.Rules == nil {
				p.someHosts()
				return
			}
			onForms(unserved)(p)
		},
	},
	{
		ID:    "encoding-doubled",
		Title: "A compressed file that would be unpacked twice",
		Level: finding.Error,
		Text: "The game unpacks the file itself, but the host goes by the file's name and sends Content-Encoding, so the browser has " +
			"unpacked it " +
			"before the game gets it. The game then tries to unpack what is no longer compressed, and stops. Under a name that tells the host " +
			"nothing, the file comes as it is.",
		Before: "levels.bin.gz, which the game unpacks, on a portal that serves gzip",
		After:  "levels.bin-gz.bin, also where the game names it",
		Run: onForms(func(p *Pass, f *export.File, form export.Form) {
			if form.Fault != export.Twice {
				return
			}
			p.recoded(f, form, finding.Finding{
				File: f.Path, Fix: "give the file a name that doesn't end in " + encoding.Ending(f.Encoding) + ", here and where the game names it",
				Message: fmt.Sprintf("the game unpacks it itself%s, and the host would have the browser unpack it before", p.seenAt(f)),
			})
		}),
	},
	{
		ID:    "encoding-partial",
		Title: "A compressed file that browsers can't unpack to its end",
		Level: finding.Error,
		Text: "The file is whole, but made in a way that browsers don't read: several gzip files in one, of which they unpack only the " +
			"first, or a window " +
			"that is larger than they allow. The game gets a part of the file, or nothing.",
		Before: "lane.pack.gz, made of two gzip files one behind the other",
		After:  "lane.pack.gz, made in one piece",
		Run: onForms(func(p *Pass, f *export.File, form export.Form) {
			if form.Fault != export.Partial {
				return
			}
			p.recoded(f, form, finding.Finding{File: f.Path, Message: f.Unfit, Fix: "compress it again in one piece"})
		}),
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
		Run: onForms(func(p *Pass, f *export.File, form export.Form) {
			if form.Fault != export.Misnamed {
				return
			}
			_, promised := encoding.Named(f.Path)
			found := finding.Finding{File: f.Path, Fix: "export again, or take the ending away here and where the file is named"}
			found.Message = "its name says that it is compressed, but it isn't; browsers would fail to decode it"
			if f.Encoding != "" {
				found.Message = fmt.Sprintf(
					"its name says %s, but it is compressed with %s; hosts go by the name, and browsers would fail to decode it",
					encoding.Title(promised),
					encoding.Title(f.Encoding),
				)
			}
			p.recoded(f, form, found)
		}),
	},
	{
		ID:    "encoding-hidden",
		Title: "A compressed file under a plain name",
		Level: finding.Error,
		Text: "The file is compressed, but its name doesn't say so. A host serves it as it is, and the browser takes the compressed bytes " +
			"for the " +
			"file, unless the game unpacks it itself or the host was told to send Content-Encoding for it.",
		Before: "game.wasm, which is compressed with gzip inside",
		After:  "game.wasm, or game.wasm.gz",
		Run: onForms(func(p *Pass, f *export.File, form export.Form) {
			if form.Fault != export.Hidden {
				return
			}
			p.recoded(f, form, finding.Finding{
				File: f.Path, Fix: "set compression to none in the engine's export settings and export again",
				Message: fmt.Sprintf(
					"it is compressed with %s, but its name doesn't say so, and it is used as it comes%s",
					encoding.Title(f.Encoding),
					p.seenAt(f),
				),
			})
		}),
	},
	{
		ID:    "encoding-guessed",
		Title: "The browser's name decides which compressed form is loaded",
		Level: finding.Warning,
		Text: "The loader asks what the browser calls itself, or which media it plays, and takes the brotli or the gzip file by that. " +
			"Neither says what the browser can unpack: one that the loader doesn't know, in an app or on a console, gets the wrong file and " +
			"stops on the loading bar. Hosts that serve compressed files are told by each request (Accept-Encoding).",
		Before: `load("lane.pack" + (/Firefox/.test(navigator.userAgent) ? ".gz" : ".br"))`,
		After:  `load("lane.pack.gz"), or load("lane.pack") where the host compresses`,
		Run:    guessed,
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
				plain, promised := encoding.Named(f.Path)
				o := p.Build.File(plain)
				if promised == "" || o == nil {
					continue
				}
				found := finding.Finding{
					File:    f.Path,
					Message: fmt.Sprintf("%s is there too, not compressed", plain),
					Fix:     "keep the one that the host can serve",
				}
				if f.Content() != o.Content() {
					found.Level, found.Message = finding.Warning, fmt.Sprintf(
						"%s is there too, and holds something else; which one players get depends on the host",
						plain,
					)
					found.Fix = "export again, into an empty folder"
				}
				p.report(found)
			}
		},
	},
}

// guessed reports loaders that choose between compressed forms by what the browser says of itself, once for each place.
func guessed(p *Pass) {
	told := map[string]bool{}
	for i := range p.Build.Links {
		l := &p.Build.Links[i]
		if !l.Guessed || l.To == nil || l.To.Encoding == "" {
			continue
		}
		who, _ := p.Build.Unpacker(l.To)
		at := fmt.Sprintf("%s:%d", l.From.Path, l.Line)
		if who == export.ByGame || told[at] {
			continue
		}
		told[at] = true
		plain, _ := encoding.Named(l.To.Path)
		found := finding.Finding{
			File: l.From.Path, Line: l.Line, Column: l.Column,
			Message: "what the browser calls itself decides which form of " + plain + " is loaded, not what it can unpack",
			Fix:     "name one form that every host of yours serves, or the file without its ending where the host compresses",
		}
		if p.Rules != nil && p.Build.Form(l.To, p.Rules.Serves.Encodings).Name == plain && p.Build.Followed(l.To, plain) == nil {
			p.fixed(found, "recode", "pack makes each choice lead to the file as the host can serve it", found.Fix)
			continue
		}
		p.report(found)
	}
}

// unserved reports a file that the portal can't serve in the form that it has.
func unserved(p *Pass, f *export.File, form export.Form) {
	found := finding.Finding{File: f.Path, Fix: encodingFix(p.Rules.Serves.Encodings)}
	found.Message = fmt.Sprintf(
		"it is compressed with %s, and %s %s",
		encoding.Title(f.Encoding),
		p.Rules.Name,
		served(p.Rules.Serves.Encodings),
	)
	if _, l := p.Build.Unpacker(f); l != nil && l.Result == export.Compressed {
		found.Message = fmt.Sprintf("it is named without its ending%s, and a host has no file of that name", p.seenAt(f))
	}
	switch form.Fault {
	case export.Unserved:
		found.Message += "; the game would stop on its loading bar"
		p.recoded(f, form, found)
	case export.Undecided:
		found.Level, found.Message = finding.Warning, found.Message+"; whether the game unpacks it can't be told, so it stays as it is"
		found.Fix = "run havvel trial, which sees whether the game starts; if it doesn't, " + found.Fix
		p.report(found)
	}
}

// someHosts reports files of which it depends on the host whether it can serve them.
func (p *Pass) someHosts() {
	for _, f := range p.Build.Parts() {
		form := p.Build.Form(f, nil)
		if f.Damage != "" || form.Fault != export.Unserved || p.Build.File(form.Name) != nil {
			continue
		}
		p.report(finding.Finding{
			Level: finding.Warning, File: f.Path, Fix: "set compression to none in the engine's export settings, unless you know that the host does",
			Message: fmt.Sprintf(
				"it is compressed with %s; only a host that sends Content-Encoding for such files can serve it",
				encoding.Title(f.Encoding),
			),
		})
	}
}

// onForms runs a check on each file in which a host must be given it.
func onForms(judge func(p *Pass, f *export.File, form export.Form)) func(*Pass) {
	return func(p *Pass) {
		var serves []string
		if p.Rules != nil {
			serves = p.Rules.Serves.Encodings
		} else {
			serves = hosting.Any.Encodings
		}
		for _, f := range p.Build.Parts() {
			if form := p.Build.Form(f, serves); form.Fault != "" && f.Damage == "" {
				judge(p, f, form)
			}
		}
	}
}

// recoded reports what pack can fix by another form of the file, where what names it can follow.
func (p *Pass) recoded(f *export.File, form export.Form, found finding.Finding) {
	if p.Rules == nil && form.Fault != export.Hidden {
		found.Level = finding.Warning // on a host that doesn't go by names all is well
	}
	if form.Name == f.Path || p.Build.File(form.Name) != nil {
		p.fixed(found, "recode", "pack brings it into a form that every player gets right", found.Fix)
		return
	}
	if lost := p.Build.Followed(f, form.Name); lost != nil {
		found.Message += "; pack can't fix it: " + lost.Error()
		p.report(found)
		return
	}
	p.fixed(found, "recode", "pack gives it a form and name that the host can serve, and its links follow", found.Fix)
}

// seenAt says where it is seen who unpacks a file.
func (p *Pass) seenAt(f *export.File) string {
	if _, l := p.Build.Unpacker(f); l != nil && l.Line > 0 {
		return fmt.Sprintf(" (%s:%d)", l.From.Path, l.Line)
	}
	return ""
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
		list = append(list, encoding.Title(e))
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
