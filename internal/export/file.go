package export

import (
	"bytes"
	"path"
	"strings"

	"havvel/internal/export/encoding"
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

func withoutEnding(name string, endings ...string) string {
	for _, e := range endings {
		if strings.HasSuffix(strings.ToLower(name), e) {
			return name[:len(name)-len(e)]
		}
	}
	return name
}

func hasEnding(name string, endings ...string) bool { return withoutEnding(name, endings...) != name }

// magics are the first bytes that tell what a file is, whatever its name.
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

// kindByMagic tells what a file is by its first bytes alone; "" where they don't. Of a few bytes it is not sure.
func kindByMagic(head []byte) (kind Kind, sure bool) {
	for _, m := range magics {
		if len(head) >= m.at+len(m.bytes) && string(head[m.at:m.at+len(m.bytes)]) == m.bytes {
			return m.kind, len(m.bytes) >= 4
		}
	}
	return "", false
}

// kindOf tells what a file is from its path and its first bytes, decoded.
func kindOf(name string, head []byte) Kind {
	ending := strings.ToLower(path.Ext(name))
	if ending == ".m4a" {
		return KindSound
	}
	if kind, _ := kindByMagic(head); kind != "" {
		return kind
	}
	if kind, ok := endings[ending]; ok {
		return kind
	}
	switch {
	case looksLikePage(head):
		return KindPage
	case encoding.IsText(head):
		return KindText
	}
	return KindData
}

func isPageName(name string) bool { return endings[strings.ToLower(path.Ext(name))] == KindPage }

func looksLikePage(head []byte) bool {
	start := strings.ToLower(string(bytes.TrimLeft(bytes.TrimPrefix(head, []byte("\ufeff")), " \t\r\n")))
	return strings.HasPrefix(start, "<!doctype html") || strings.HasPrefix(start, "<html")
}
