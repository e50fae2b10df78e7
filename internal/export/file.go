package export

import (
	"bytes"
	"compress/gzip"
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"io"
	"path"
	"strings"
	"unicode/utf8"

	"github.com/andybalholm/brotli"

	"havvel/internal/export/web"
	"havvel/internal/progress"
)

// Kind is what a file is, by its content and, where that does not tell, by its name.
type Kind string

// The kinds.
const (
	KindPage    Kind = "page"
	KindScript  Kind = "script"
	KindStyle   Kind = "style"
	KindWasm    Kind = "wasm"
	KindData    Kind = "data" // packed or unknown bytes
	KindPicture Kind = "picture"
	KindSound   Kind = "sound"
	KindVideo   Kind = "video"
	KindFont    Kind = "font"
	KindText    Kind = "text"
	KindArchive Kind = "archive"
)

// maxText is the largest page or stylesheet that is read for links.
const maxText = 64 << 20

// read goes through the file's bytes once: hash, kind, and the links of pages and stylesheets.
func (f *File) read(ctx context.Context) error {
	f.Junk = junk(f.Path)
	opened, err := f.open()
	if err != nil {
		return &Unreadable{Path: f.Path, Reason: "it can't be opened", Cause: err}
	}
	defer opened.Close()
	r := &progress.Reader{Ctx: ctx, R: opened, To: progress.None}
	head := make([]byte, 8<<10)
	n, err := io.ReadFull(r, head)
	if err != nil && !errors.Is(err, io.EOF) && !errors.Is(err, io.ErrUnexpectedEOF) {
		return &Unreadable{Path: f.Path, Reason: "it can't be read", Cause: err}
	}
	head = head[:n]
	f.Encoding, f.Kind = kindOf(f.Path, head)

	hash := sha256.New()
	hash.Write(head)
	into := io.Writer(hash)
	var text bytes.Buffer
	isText := f.Encoding == "" && (f.Kind == KindPage || f.Kind == KindStyle) && f.Bytes <= maxText
	if isText {
		text.Grow(int(f.Bytes))
		text.Write(head)
		into = io.MultiWriter(hash, &text)
	}
	// One byte more than was announced is enough to know that the announcement was false.
	rest, err := io.Copy(into, io.LimitReader(r, f.Bytes-int64(n)+1))
	if err != nil {
		return &Unreadable{Path: f.Path, Reason: "it can't be read to its end", Cause: err}
	}
	if got := int64(n) + rest; got != f.Bytes {
		return &Unreadable{Path: f.Path, Reason: fmt.Sprintf("it has %d bytes where %d were announced", got, f.Bytes), Next: "it may have changed while it was read; try again"}
	}
	hash.Sum(f.SHA256[:0])
	if isText {
		f.readText(text.Bytes())
	}
	return nil
}

func (f *File) readText(data []byte) {
	if f.Kind == KindPage {
		f.Page = web.ReadPage(data)
		f.Links = f.Page.Links
	} else {
		f.Links = web.ReadStyle(data)
	}
}

// kindOf tells what a file is from its path and its first bytes.
func kindOf(name string, head []byte) (encoding string, kind Kind) {
	if strings.HasPrefix(string(head), "\x1f\x8b\x08") {
		inner, _ := gzip.NewReader(bytes.NewReader(head))
		return "gzip", plainKind(withoutEnding(name, ".gz", ".gzip"), firstBytes(inner))
	}
	if rest := withoutEnding(name, ".br"); rest != name {
		if inner := firstBytes(brotli.NewReader(bytes.NewReader(head))); len(inner) > 0 {
			return "br", plainKind(rest, inner)
		}
	}
	return "", plainKind(name, head)
}

// firstBytes decodes as much as the start of a compressed file gives.
func firstBytes(r io.Reader) []byte {
	head := make([]byte, 512)
	n, _ := io.ReadFull(r, head) // what came before an error is what is asked for
	return head[:n]
}

func withoutEnding(name string, endings ...string) string {
	for _, e := range endings {
		if strings.HasSuffix(strings.ToLower(name), e) {
			return name[:len(name)-len(e)]
		}
	}
	return name
}

// magics are the first bytes by which a file is known whatever its name.
var magics = []struct {
	at    int
	bytes string
	kind  Kind
}{
	{0, "\x00asm", KindWasm},
	{0, "\x89PNG\r\n\x1a\n", KindPicture}, {0, "\xff\xd8\xff", KindPicture}, {0, "GIF8", KindPicture},
	{8, "WEBP", KindPicture}, {4, "ftypavif", KindPicture}, {0, "BM", KindPicture}, {0, "\x00\x00\x01\x00", KindPicture},
	{8, "WAVE", KindSound}, {0, "OggS", KindSound}, {0, "ID3", KindSound}, {0, "fLaC", KindSound},
	{0, "\xff\xfb", KindSound}, {0, "\xff\xf3", KindSound}, {0, "\xff\xf1", KindSound},
	{0, "\x1aE\xdf\xa3", KindVideo}, {4, "ftyp", KindVideo},
	{0, "wOFF", KindFont}, {0, "wOF2", KindFont}, {0, "OTTO", KindFont}, {0, "\x00\x01\x00\x00\x00", KindFont},
	{0, "PK\x03\x04", KindArchive},
}

// endings tell the kind of a text file, which has no first bytes of its own.
var endings = map[string]Kind{
	".html": KindPage, ".htm": KindPage, ".xhtml": KindPage,
	".js": KindScript, ".mjs": KindScript, ".cjs": KindScript, ".css": KindStyle, ".svg": KindPicture,
	".m4a": KindSound, ".json": KindText, ".txt": KindText, ".xml": KindText, ".webmanifest": KindText, ".map": KindText,
}

func plainKind(name string, head []byte) Kind {
	ending := strings.ToLower(path.Ext(name))
	if ending == ".m4a" {
		return KindSound
	}
	for _, m := range magics {
		if len(head) >= m.at+len(m.bytes) && string(head[m.at:m.at+len(m.bytes)]) == m.bytes {
			return m.kind
		}
	}
	if kind, ok := endings[ending]; ok {
		return kind
	}
	switch {
	case looksLikePage(head):
		return KindPage
	case looksLikeText(head):
		return KindText
	}
	return KindData
}

func isPageName(name string) bool { return endings[strings.ToLower(path.Ext(name))] == KindPage }

func looksLikePage(head []byte) bool {
	start := strings.ToLower(string(bytes.TrimLeft(bytes.TrimPrefix(head, []byte("\ufeff")), " \t\r\n")))
	return strings.HasPrefix(start, "<!doctype html") || strings.HasPrefix(start, "<html")
}

func looksLikeText(head []byte) bool {
	if bytes.IndexByte(head, 0) >= 0 {
		return false
	}
	for range utf8.UTFMax { // the last letter may be cut
		if utf8.Valid(head) {
			return true
		}
		head = head[:len(head)-1]
	}
	return false
}
