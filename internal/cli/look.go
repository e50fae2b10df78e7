package cli

import (
	"context"
	"fmt"

	"github.com/spf13/cobra"

	"havvel/internal/cli/term"
	"havvel/internal/export"
	"havvel/internal/settings"
)

func (a *app) look() *cobra.Command {
	c := a.new(command{
		use:   "look [EXPORT]",
		short: "What an export is made of",
		long: "Look reads an export (a folder, a zip or one HTML page) and says what it is: its entry page, its shape, its files by\n" +
			"kind, and its fingerprint. Without EXPORT it is the one that havvel.toml names, or this folder.",
		example: "  havvel look\n  havvel look export/web",
		args:    cobra.MaximumNArgs(1),
		run:     a.runLook,
	})
	a.withJSON(c)
	return c
}

func (a *app) runLook(ctx context.Context, args []string) error {
	p, b, err := a.subject(ctx, args)
	if err != nil {
		return err
	}
	defer b.Close()
	if a.json {
		return a.screen.JSON(lookDocument(b))
	}
	s := a.screen
	s.Line("%s  %s", s.In(term.Strong, b.Path), s.In(term.Quiet, fmt.Sprintf("a %s, %s in %s", b.Source, settings.Size(b.Bytes), files(len(b.Parts())))))
	s.Line("")
	rows := [][]string{{"shape", fmt.Sprintf("%s (%s)", b.Shape, shapes[b.Shape])}}
	if b.Entry != nil {
		entry := term.Clean(b.Entry.Path)
		if t := b.Entry.Page.Title; t != "" {
			entry += fmt.Sprintf(", titled %q", term.Clean(t))
		}
		rows = append(rows, []string{"entry page", entry})
	} else {
		rows = append(rows, []string{"entry page", s.In(term.Bad, "none: no HTML page in it runs a script")})
	}
	rows = append(rows, []string{"fingerprint", b.Fingerprint[:16]})
	s.Table(nil, rows)
	s.Line("")
	a.lookKinds(b)
	if n := len(b.Files) - len(b.Parts()); n > 0 {
		s.Line("")
		s.Line("  not counted: %s that %s belong in a build (havvel check names them)", files(n), does(n, "does not", "do not"))
	}
	s.Line("")
	if p == nil {
		s.Next("havvel check%s", argument(args))
	} else {
		s.Next("havvel check%s  (is it right for %s?)", argument(args), portalNames(p))
	}
	return nil
}

var shapes = map[export.Shape]string{
	export.SinglePage: "everything in one HTML file",
	export.Script:     "pages, scripts and media",
	export.Wasm:       "a script that loads WebAssembly",
	export.WasmSplit:  "loader, runtime, WebAssembly and packed data",
}

// kindNames say kinds to people, in the order in which they are shown.
var kindNames = []struct {
	kind export.Kind
	name string
}{
	{export.KindPage, "pages"}, {export.KindScript, "scripts"}, {export.KindStyle, "stylesheets"}, {export.KindWasm, "WebAssembly"},
	{export.KindData, "packed data"}, {export.KindPicture, "pictures"}, {export.KindSound, "sounds"}, {export.KindVideo, "videos"},
	{export.KindFont, "fonts"}, {export.KindText, "text and settings"}, {export.KindArchive, "archives"},
}

func (a *app) lookKinds(b *export.Build) {
	var rows [][]string
	for _, k := range kindNames {
		var largest *export.File
		n, bytes := 0, int64(0)
		for _, f := range b.Parts() {
			if f.Kind != k.kind {
				continue
			}
			n++
			bytes += f.Bytes
			if largest == nil || f.Bytes > largest.Bytes {
				largest = f
			}
		}
		if n == 0 {
			continue
		}
		name := term.Clean(largest.Path)
		if n > 1 {
			name += "  " + settings.Size(largest.Bytes).String()
		}
		if largest.Encoding != "" {
			name += " (compressed with " + largest.Encoding + ")"
		}
		rows = append(rows, []string{k.name, fmt.Sprint(n), settings.Size(bytes).String(), name})
	}
	a.screen.Table([]string{"kind", "files", "size", "largest"}, rows, 1, 2)
}

type lookJSON struct {
	Path        string     `json:"path"`
	Source      string     `json:"source"`
	Entry       string     `json:"entry"`
	Title       string     `json:"title"`
	Entries     []entryRow `json:"entries"`
	Shape       string     `json:"shape"`
	Files       []fileRow  `json:"files"`
	Bytes       int64      `json:"bytes"`
	Fingerprint string     `json:"fingerprint"`
	Links       []linkRow  `json:"links"`
	Wasm        []wasmRow  `json:"wasm"`
}

type entryRow struct {
	Path   string `json:"path"`
	Reason string `json:"reason"`
}

type fileRow struct {
	Path     string `json:"path"`
	Bytes    int64  `json:"bytes"`
	Kind     string `json:"kind"`
	Encoding string `json:"encoding"`
	SHA256   string `json:"sha256"`
	Junk     string `json:"junk"`
}

type wasmRow struct {
	File  string `json:"file"`
	Bytes int64  `json:"bytes"`
}

type linkRow struct {
	File   string `json:"file"`
	Line   int    `json:"line"`
	Column int    `json:"column"`
	Use    string `json:"use"`
	Target string `json:"target"`
	Sure   string `json:"certainty"`
	Result string `json:"result"`
}

func lookDocument(b *export.Build) lookJSON {
	d := lookJSON{
		Path: b.Path, Source: b.Source, Shape: string(b.Shape), Bytes: b.Bytes, Fingerprint: b.Fingerprint,
		Entries: []entryRow{}, Files: []fileRow{}, Links: []linkRow{}, Wasm: []wasmRow{},
	}
	if b.Entry != nil {
		d.Entry, d.Title = b.Entry.Path, b.Entry.Page.Title
	}
	for _, e := range b.Entries {
		d.Entries = append(d.Entries, entryRow{e.File.Path, e.Reason})
	}
	for _, f := range b.Files {
		d.Files = append(d.Files, fileRow{f.Path, f.Bytes, string(f.Kind), f.Encoding, fmt.Sprintf("%x", f.SHA256), f.Junk})
		if f.Kind == export.KindWasm {
			d.Wasm = append(d.Wasm, wasmRow{f.Path, f.Bytes})
		}
	}
	for _, l := range b.Links {
		d.Links = append(d.Links, linkRow{l.From.Path, l.Line, l.Column, l.Use, l.Target, l.Certainty.String(), string(l.Result)})
	}
	return d
}
