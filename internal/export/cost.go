package export

import (
	"crypto/sha256"
	"time"

	"havvel/internal/export/link"
	"havvel/internal/export/wasm"
)

// Start is what is downloaded before a game can start.
type Start struct {
	Files []*File
	Bytes int64 // as they stand in the build
	Wire  int64 // estimated, where the host compresses on the way
}

// Start follows the links from the entry page: scripts, stylesheets, WebAssembly and packed data, and what they name in
// turn. Pictures, sounds and films count only where the page itself shows them; a game loads most of its own later. It is
// an estimate: what a script names, it may load at once or never.
func (b *Build) Start() Start {
	var s Start
	seen := map[*File]bool{}
	follow := []*File{b.Entry}
	for len(follow) > 0 {
		f := follow[0]
		follow = follow[1:]
		if f == nil || seen[f] {
			continue
		}
		seen[f] = true
		s.Files = append(s.Files, f)
		s.Bytes += f.Bytes
		if f.Squeezed > 0 {
			s.Wire += f.Squeezed
		} else {
			s.Wire += f.Bytes
		}
		for _, l := range b.from[f] {
			if l.To != nil && early(l) {
				follow = append(follow, l.To)
			}
		}
	}
	return s
}

func early(l Link) bool {
	switch l.To.Kind {
	case KindScript, KindStyle, KindWasm, KindData:
		return l.Use != "page"
	case KindPage: // in a frame
		return l.Use == "frame"
	case KindSound, KindVideo:
		return false
	}
	return l.Certainty == link.Certain && l.Use != "page"
}

// Memory is what a game takes in memory, as far as its files tell, in bytes.
type Memory struct {
	WasmInitial int64 // what WebAssembly asks for at the start
	WasmMaximum int64 // the most it may grow to; 0 when no module names a limit
	Textures    int64 // all pictures decoded, four bytes a pixel
	Sounds      int64 // all sounds decoded
	Data        int64 // packed data, kept whole while it is read
}

// Memory adds up what the files say.
func (b *Build) Memory() Memory {
	var m Memory
	for _, f := range b.Parts() {
		if f.Wasm != nil {
			for _, x := range f.Wasm.Memories {
				m.WasmInitial += int64(x.Initial)
				m.WasmMaximum = max(m.WasmMaximum, int64(x.Maximum))
			}
		}
		if f.Media != nil && f.Media.Picture() {
			m.Textures += f.Media.Decoded()
		} else if f.Media != nil {
			m.Sounds += f.Media.Decoded()
		}
		if f.Kind == KindData {
			m.Data += f.Decoded
		}
	}
	return m
}

// NeedsIsolation returns a module that wants memory shared between threads, for which the page must be served with
// cross-origin isolation headers; nil when there is none.
func (b *Build) NeedsIsolation() *File {
	for _, f := range b.Parts() {
		if f.Wasm != nil && f.Wasm.Shared() {
			return f
		}
	}
	return nil
}

// Features lists the newer parts of WebAssembly that the build's modules use.
func (b *Build) Features() []wasm.Feature {
	var list []wasm.Feature
	seen := map[wasm.Feature]bool{}
	for _, f := range b.Parts() {
		if f.Wasm != nil {
			for _, x := range f.Wasm.Features {
				if !seen[x] {
					seen[x] = true
					list = append(list, x)
				}
			}
		}
	}
	return list
}

// NamedBy returns the first link that leads to a file; nil when there is none.
func (b *Build) NamedBy(f *File) *Link {
	if places := b.to[f]; len(places) > 0 {
		return &b.Links[places[0]]
	}
	return nil
}

// Newest is when the latest file of the build was written; zero when that is not known.
func (b *Build) Newest() time.Time {
	var newest time.Time
	for _, f := range b.Parts() {
		if f.changed.After(newest) {
			newest = f.changed
		}
	}
	return newest
}

// Duplicates lists files with the same content, two or more in each list, in the order of their paths.
func (b *Build) Duplicates() [][]*File {
	by := map[[sha256.Size]byte][]*File{}
	for _, f := range b.Parts() {
		if f.Bytes > 0 {
			by[f.SHA256] = append(by[f.SHA256], f)
		}
	}
	var list [][]*File
	for _, f := range b.Parts() {
		if same := by[f.SHA256]; len(same) > 1 && same[0] == f {
			list = append(list, same)
		}
	}
	return list
}
