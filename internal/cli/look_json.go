package cli

import (
	"fmt"

	"havvel/internal/export"
	"havvel/internal/export/wasm"
)

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
	Start       startRow   `json:"start"`
	Memory      memoryRow  `json:"memory"`
	Unlinked    []string   `json:"unlinked"`
	Duplicates  [][]string `json:"duplicates"`
	Isolation   bool       `json:"needs_isolation"`
	Unparsed    []string   `json:"unparsed"`
}

type entryRow struct {
	Path   string `json:"path"`
	Reason string `json:"reason"`
}

type fileRow struct {
	Path     string  `json:"path"`
	Bytes    int64   `json:"bytes"`
	Kind     string  `json:"kind"`
	Encoding string  `json:"encoding"`
	Decoded  int64   `json:"decoded_bytes"`
	SHA256   string  `json:"sha256"`
	Junk     string  `json:"junk"`
	Damage   string  `json:"damage"`
	Format   string  `json:"format"`
	Width    int     `json:"width"`
	Height   int     `json:"height"`
	Seconds  float64 `json:"seconds"`
}

type wasmRow struct {
	File      string      `json:"file"`
	Bytes     int64       `json:"bytes"`
	Memories  []memoryOne `json:"memories"`
	Imports   int         `json:"imports"`
	DataBytes int64       `json:"data_bytes"`
	Features  []string    `json:"features"`
}

type memoryOne struct {
	Initial  uint64 `json:"initial"`
	Maximum  uint64 `json:"maximum"`
	Shared   bool   `json:"shared"`
	Is64     bool   `json:"is64"`
	Imported bool   `json:"imported"`
}

type linkRow struct {
	File      string `json:"file"`
	Line      int    `json:"line"`
	Column    int    `json:"column"`
	Use       string `json:"use"`
	Target    string `json:"target"`
	Certainty string `json:"certainty"`
	Result    string `json:"result"`
}

type startRow struct {
	Bytes int64    `json:"bytes"`
	Wire  int64    `json:"compressed_bytes"`
	Files []string `json:"files"`
}

type memoryRow struct {
	WasmInitial int64 `json:"wasm_initial"`
	WasmMaximum int64 `json:"wasm_maximum"`
	Pictures    int64 `json:"pictures"`
	Sounds      int64 `json:"sounds"`
	Data        int64 `json:"data"`
}

func lookDocument(b *export.Build) lookJSON {
	d := lookJSON{
		Path: b.Path, Source: b.Source, Shape: string(b.Shape), Bytes: b.Bytes, Fingerprint: b.Fingerprint, Isolation: b.NeedsIsolation() != nil,
		Entries: []entryRow{}, Files: []fileRow{}, Links: []linkRow{}, Wasm: []wasmRow{}, Unlinked: paths(b.Unlinked()),
		Unparsed: paths(b.Unparsed()), Duplicates: [][]string{},
	}
	if b.Entry != nil {
		d.Entry, d.Title = b.Entry.Path, b.Entry.Page.Title
	}
	for _, e := range b.Entries {
		d.Entries = append(d.Entries, entryRow{e.File.Path, e.Reason})
	}
	for _, f := range b.Files {
		row := fileRow{
			Path:     f.Path,
			Bytes:    f.Bytes,
			Kind:     string(f.Kind),
			Encoding: f.Encoding,
			Decoded:  f.Decoded,
			Junk:     f.Junk,
			Damage:   f.Damage,
		}
		if f.Junk == "" {
			row.SHA256 = fmt.Sprintf("%x", f.SHA256)
		}
		if f.Media != nil {
			row.Format, row.Width, row.Height, row.Seconds = f.Media.Format, f.Media.Width, f.Media.Height, f.Media.Length.Seconds()
		}
		d.Files = append(d.Files, row)
		if f.Wasm != nil {
			d.Wasm = append(d.Wasm, moduleRow(f, f.Wasm))
		}
	}
	for _, l := range b.Links {
		d.Links = append(d.Links, linkRow{l.From.Path, l.Line, l.Column, l.Use, l.Target, l.Certainty.String(), string(l.Result)})
	}
	for _, same := range b.Duplicates() {
		d.Duplicates = append(d.Duplicates, paths(same))
	}
	start, m := b.Start(), b.Memory()
	d.Start = startRow{start.Bytes, start.Wire, paths(start.Files)}
	d.Memory = memoryRow{m.WasmInitial, m.WasmMaximum, m.Textures, m.Sounds, m.Data}
	return d
}

func moduleRow(f *export.File, m *wasm.Module) wasmRow {
	row := wasmRow{
		File:      f.Path,
		Bytes:     f.Bytes,
		Imports:   len(m.Imports),
		DataBytes: m.DataBytes,
		Memories:  []memoryOne{},
		Features:  []string{},
	}
	for _, x := range m.Memories {
		row.Memories = append(row.Memories, memoryOne(x))
	}
	for _, x := range m.Features {
		row.Features = append(row.Features, string(x))
	}
	return row
}

func paths(files []*export.File) []string {
	list := []string{}
	for _, f := range files {
		list = append(list, f.Path)
	}
	return list
}
