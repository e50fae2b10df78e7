// Package export reads what an engine wrote into a Build: its files, entry page, shape, links and
// fingerprint, in one pass over the bytes. It never writes. Judging a build is left to check, what
// goes into an archive to pack.
package export

import (
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"path"
	"runtime"
	"slices"
	"strings"
	"sync/atomic"
	"time"

	"golang.org/x/sync/errgroup"

	"havvel/internal/export/link"
	"havvel/internal/export/media"
	"havvel/internal/export/script"
	"havvel/internal/export/wasm"
	"havvel/internal/export/web"
	"havvel/internal/fault"
)

// A Build is an export as Havvel has read it.
type Build struct {
	Path        string  // as it was named
	Source      string  // "folder", "zip" or "page"
	Base        string  // the folder inside the export that holds all files, with a slash at its end, or ""
	Files       []*File // in the order of their paths
	Entry       *File   // the page that a host should serve first; nil when there is none
	Entries     []Entry // all pages that could be it, the likeliest first
	Shape       Shape
	Links       []Link // of all files but junk
	Fingerprint string // hex SHA-256 over paths and contents of all files but junk
	Bytes       int64  // of all files but junk
	Charset     string // that the names in a zip were taken for, where it doesn't say; else ""

	source source
	parts  []*File          // all files but junk
	known  map[string]facts // what a cache knows
	news   bool             // something was read that the cache does not know
	index
}

// index is what follows from the files and links of a build as a whole.
type index struct {
	from      map[*File][]Link // links by the file they stand in
	linked    map[*File]bool   // files that something may load
	to        map[*File][]int  // places in Links, by the file they lead to
	reach     map[*File]Reach
	runners   map[*File][]Runner
	sights    []Sight
	relatives map[int]relative // of links from the host's root, by their place in Links
	vague     map[*File]*Link  // links with unknown parts that may mean a file
	dirs      map[string]bool  // the folders that parts are in
	place     string           // the folder of the host that the entry page expects to be in: "" or one with a slash at its end
	lower     map[string]*File // by path in small letters, for links that differ in letter case
	byPath    map[string]*File
}

// A File is one file of a build.
type File struct {
	Path       string // inside the export, with forward slashes
	Bytes      int64
	SHA256     [sha256.Size]byte
	CRC32      uint32 // of the zip format, APPNOTE 4.4.7
	Kind       Kind
	Encoding   string            // a format of export/encoding when the file was compressed before; Kind is that of what is inside
	Unfit      string            // why browsers don't decode all of a compressed file that is whole, or ""
	Junk       string            // why it does not belong in a build, or ""; such a file is not read
	Inner      [sha256.Size]byte // of what a compressed file decodes to; else zero
	Decoded    int64             // bytes when decoded; as Bytes for a file that is not compressed
	Squeezed   int64             // estimated bytes after compression on the way, for a larger file that is not compressed; else 0
	Damage     string            // what is wrong with its content, or ""
	PrivateKey bool              // a private key stands in it

	Contents
	stamps

	links []link.Link
	open  func() (io.ReadCloser, error)
}

// Contents are what a file's content says; nil for files of other kinds.
type Contents struct {
	Page   *web.Page
	Script *script.Script
	Style  *web.Style
	Wasm   *wasm.Module
	Media  *media.Info
}

// stamps tell whether a file changed.
type stamps struct {
	stamp   string    // "" when that can't be told
	settled time.Time // when the stamp last changed
	changed time.Time // when it was written, as the system says
}

// Open opens the file's bytes.
func (f *File) Open() (io.ReadCloser, error) { return f.open() }

// Digests lists the hashes that a page or script gives for other files.
func (f *File) Digests() []link.Digest {
	switch {
	case f.Page != nil:
		return f.Page.Digests
	case f.Script != nil:
		return f.Script.Digests
	}
	return nil
}

// Shape is how a build is put together.
type Shape string

// The shapes.
const (
	SinglePage Shape = "single-page" // everything in one HTML file
	Script     Shape = "script"      // pages, scripts and media
	Wasm       Shape = "wasm"        // a script that loads WebAssembly
	WasmSplit  Shape = "wasm-split"  // loader, runtime, WebAssembly and a packed data file
)

// An Unreadable error says that what was named is not an export that can be read.
type Unreadable struct {
	Path   string
	Reason string
	Next   string // what to do about it
	Cause  error  // may be nil
}

func (e *Unreadable) Error() string {
	path := e.Path
	if path == "." {
		path = "this folder"
	}
	text := fmt.Sprintf("can't read %s as an export: %s", path, e.Reason)
	if e.Cause != nil {
		text += ": " + e.Cause.Error()
	}
	return text
}

func (e *Unreadable) Unwrap() error { return e.Cause }

// Fault tells it.
func (e *Unreadable) Fault() *fault.Error { return fault.Tell(e, fault.Usage, e.Next) }

// Read reads the export at path: a folder, a zip or one HTML page. Close the build when done with it.
// Errors that lie in the export itself are *Unreadable.
func Read(ctx context.Context, path string) (*Build, error) {
	b := &Build{Path: path}
	var err error
	if b.source, err = openSource(path); err != nil {
		return nil, err
	}
	if err := b.read(ctx); err != nil {
		b.source.Close()
		return nil, err
	}
	return b, nil
}

// Close lets go of the export.
func (b *Build) Close() error { return b.source.Close() }

func (b *Build) read(ctx context.Context) error {
	b.Source = b.source.kind()
	var err error
	if b.Files, err = b.source.list(); err != nil {
		return err
	}
	if z, ok := b.source.(*zipFile); ok {
		b.Charset = z.guessed
	}
	slices.SortFunc(b.Files, func(x, y *File) int { return cmp.Compare(x.Path, y.Path) })
	var news atomic.Bool
	t := newTurns()
	work, ctx := errgroup.WithContext(ctx)
	work.SetLimit(runtime.GOMAXPROCS(0))
	for _, f := range b.Files {
		work.Go(func() error {
			if f.recall(b.known) {
				return ctx.Err()
			}
			news.Store(true)
			return f.read(ctx, t)
		})
	}
	if err := work.Wait(); err != nil {
		var unreadable *Unreadable
		if errors.As(err, &unreadable) {
			unreadable.Path = b.Path
		}
		return err
	}
	b.news, b.known = news.Load(), nil
	b.assemble()
	if len(b.Parts()) == 0 {
		return &Unreadable{
			Path:   b.Path,
			Reason: "there is no file in it",
			Next:   "export the game again, and name the folder that the engine wrote",
		}
	}
	return nil
}

// assemble works out what follows from the files as a whole.
func (b *Build) assemble() {
	b.byPath, b.lower = map[string]*File{}, map[string]*File{}
	for _, f := range b.Files {
		b.byPath[f.Path] = f
		b.lower[strings.ToLower(f.Path)] = f
		if f.Junk == "" {
			b.Bytes += f.Bytes
			b.parts = append(b.parts, f)
		}
	}
	b.Base = commonFolder(b.Parts())
	b.Entries = b.rankEntries()
	if len(b.Entries) > 0 {
		b.Entry = b.Entries[0].File
	}
	b.resolve()
	b.Shape = b.shape()
	b.Fingerprint = b.fingerprint()
}

// Parts lists the files that belong to the build: all but junk. The list must not be changed.
func (b *Build) Parts() []*File { return b.parts }

// File returns the file of that path, or nil.
func (b *Build) File(path string) *File { return b.byPath[path] }

// inAnyCase returns a file whose path differs from that one at most in letter case, or nil.
func (b *Build) inAnyCase(path string) *File { return b.lower[strings.ToLower(path)] }

// Inside is a file's path without the folder that holds the whole build.
func (b *Build) Inside(f *File) string { return strings.TrimPrefix(f.Path, b.Base) }

func commonFolder(files []*File) string {
	if len(files) == 0 {
		return ""
	}
	common := path.Dir(files[0].Path)
	for _, f := range files {
		for common != "." && !strings.HasPrefix(f.Path, common+"/") {
			common = path.Dir(common)
		}
	}
	if common == "." {
		return ""
	}
	return common + "/"
}

func (b *Build) shape() Shape {
	parts := b.Parts()
	has := map[Kind]int{}
	for _, f := range parts {
		has[f.Kind]++
	}
	switch {
	case len(parts) == 1 && has[KindPage] == 1:
		return SinglePage
	case has[KindWasm] > 0 && has[KindData] > 0:
		return WasmSplit
	case has[KindWasm] > 0:
		return Wasm
	}
	return Script
}

// fingerprint is one hash over paths and contents, the same for a folder, a zip of it, a zip with a
// folder around it, and any order of files.
func (b *Build) fingerprint() string {
	whole := sha256.New()
	for _, f := range b.Parts() { // in the order of paths, which a common folder does not change
		fmt.Fprintf(whole, "%d:%s %d %x\n", len(b.Inside(f)), b.Inside(f), f.Bytes, f.SHA256)
	}
	return hex.EncodeToString(whole.Sum(nil))
}
