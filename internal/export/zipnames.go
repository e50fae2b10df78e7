package export

import (
	"archive/zip"
	"encoding/binary"
	"hash/crc32"
	"path"
	"strings"
	"unicode"
	"unicode/utf8"

	"golang.org/x/text/encoding"
	"golang.org/x/text/encoding/charmap"
	"golang.org/x/text/encoding/japanese"
)

// nameOf is the name of an entry of a zip, with slashes, and the character set that was guessed for it: "" where none had to be. ok is
// false where the name can't be read. The zip format (APPNOTE 4.4.17 and appendix D) knows UTF-8 and CP437; programs also write what
// their system uses.
func nameOf(f *zip.File) (name, guessed string, ok bool) {
	name = f.Name
	switch extra, found := unicodeName(f); {
	case found:
		name = extra
	case utf8.ValidString(name): // many write it without saying so
	case f.Flags&0x800 != 0:
		return name, "", false
	default:
		name, guessed = decodedName(name)
	}
	name = strings.ReplaceAll(name, `\`, "/")
	if name != "" && !strings.HasSuffix(name, "/") {
		name = path.Clean(name)
	}
	return name, guessed, true
}

// unicodeName is the name in the entry's Unicode path field (APPNOTE 4.6.9), where it is there and belongs to this name.
func unicodeName(f *zip.File) (string, bool) {
	for extra := f.Extra; len(extra) >= 4; {
		id, size := binary.LittleEndian.Uint16(extra), int(binary.LittleEndian.Uint16(extra[2:]))
		if extra = extra[4:]; size > len(extra) {
			return "", false
		}
		field := extra[:size]
		extra = extra[size:]
		if id != 0x7075 || size < 6 || field[0] != 1 || binary.LittleEndian.Uint32(field[1:]) != crc32.ChecksumIEEE([]byte(f.Name)) {
			continue
		}
		if name := string(field[5:]); utf8.ValidString(name) {
			return name, true
		}
	}
	return "", false
}

// decodedName reads a name that is not UTF-8.
func decodedName(raw string) (name, guessed string) {
	if text, err := japanese.ShiftJIS.NewDecoder().String(raw); err == nil && isJapanese(text) {
		return text, "Shift-JIS"
	}
	set, guessed := encoding.Encoding(charmap.CodePage437), ""
	for i := range len(raw) {
		if b := raw[i]; b > 0x9a && b < 0xa0 || b > 0xa5 && b != 0xe1 { // in CP437 signs and lines, but for the sharp s
			set, guessed = charmap.Windows1252, "Windows-1252"
		}
	}
	name, err := set.NewDecoder().String(raw)
	if err != nil {
		return strings.ToValidUTF8(raw, "_"), guessed
	}
	return name, guessed
}

// isJapanese reports whether a text's letters other than ASCII are Japanese, two or more at a time: a single one may be half of a
// letter with an accent in another character set.
func isJapanese(text string) bool {
	run, any := 0, false
	for _, r := range text + "." {
		switch {
		case unicode.In(r, unicode.Hiragana, unicode.Katakana, unicode.Han) || r == 'ー' || r == '・':
			run++
			any = true
		case r >= utf8.RuneSelf && (r < 0xff01 || r > 0xff5e), run == 1:
			return false
		default:
			run = 0
		}
	}
	return any
}

// methods are ways of packing an entry that only some programs know (APPNOTE 4.4.5).
var methods = map[uint16]string{
	9:  "Deflate64",
	12: "bzip2",
	14: "LZMA",
	93: "zstd",
	95: "xz",
	97: "WavPack",
	98: "PPMd",
	99: "AES encryption",
}
