// Package encoding tells in which compressed format the bytes of a file are, by decoding them, and decodes them. A name is only asked
// what it promises. Who decodes a file in the end, a host or the game, is left to export.
package encoding

import (
	"bytes"
	"io"
	"path"
	"strings"
	"unicode/utf8"

	"github.com/klauspost/compress/zstd"
)

// The formats, by the names that HTTP (RFC 9110, section 8.4.1) and the Compression standard give them.
const (
	Gzip   = "gzip"        // RFC 1952
	Brotli = "br"          // RFC 7932
	Zstd   = "zstd"        // RFC 8878
	Zlib   = "deflate"     // RFC 1950
	Raw    = "deflate-raw" // RFC 1951
)

// Title is the name of a format in sentences.
func Title(format string) string {
	switch format {
	case Brotli:
		return "brotli"
	case Zlib:
		return "zlib"
	case Raw:
		return "deflate"
	case "":
		return "plain"
	}
	return format
}

var endings = map[string]string{".gz": Gzip, ".gzip": Gzip, ".br": Brotli, ".zst": Zstd}

// Named returns the format that a name promises by its ending, and the name without that; "" and the whole name where it promises none.
func Named(name string) (plain, format string) {
	ending := path.Ext(name)
	if format = endings[strings.ToLower(ending)]; format == "" {
		return name, ""
	}
	return strings.TrimSuffix(name, ending), format
}

// Ending is what a name in a format ends in, "" for one that has no ending of its own.
func Ending(format string) string {
	for _, e := range []string{".gz", ".br", ".zst"} {
		if endings[e] == format {
			return e
		}
	}
	return ""
}

const (
	leastHidden = 32       // bytes; a shorter file is no compressed one unless its name says so, since any few bytes may decode
	probed      = 64 << 10 // decoded bytes after which a format is believed, where the name promises it
)

// Detect returns the format of a file, or "". head is its beginning, 4 KB where there is so much; known says that these tell what the file
// is, such as a picture. The file is opened where its head doesn't decide. Where a name promises a format, bytes that begin in it are taken
// for it even when they are damaged later; under any other name, all bytes must decode.
func Detect(name string, head []byte, known bool, open func() (io.ReadCloser, error)) (string, error) {
	_, promised := Named(name)
	if format := marked(head, promised); format != "" {
		return format, nil
	}
	if promised == Brotli {
		begins, err := begins(Brotli, known || IsText(head), open)
		if begins || err != nil {
			return Brotli, err
		}
	}
	if known || promised == "" && (len(head) < leastHidden || IsText(head)) {
		return "", nil
	}
	for _, format := range []string{Zlib, Brotli, Raw} {
		if format == Zlib && !isZlib(head) {
			continue
		}
		whole, err := decodes(format, open)
		if err != nil {
			return "", err
		}
		if whole {
			return format, nil
		}
	}
	return "", nil
}

// marked is the format that the first bytes of a file name; "" where they don't.
func marked(head []byte, promised string) string {
	var frame zstd.Header
	switch {
	case bytes.HasPrefix(head, []byte("\x1f\x8b\x08")):
		return Gzip
	case bytes.HasPrefix(head, []byte("\x28\xb5\x2f\xfd")), promised == Zstd && frame.Decode(head) == nil && frame.Skippable:
		return Zstd
	case promised == Brotli && LargeWindow(head):
		return Brotli
	}
	return ""
}

// begins reports whether a file begins in a format. Where it looks like something else, it must decode for longer.
func begins(format string, other bool, open func() (io.ReadCloser, error)) (bool, error) {
	n, err, failed := decode(format, probed, open)
	if failed != nil {
		return false, failed
	}
	switch {
	case err == nil:
		return true, nil // all of it, or as much as is believed
	case other:
		return false, nil
	}
	return n > 0 || err == io.ErrUnexpectedEOF, nil
}

// decodes reports whether all of a file's bytes decode to something.
func decodes(format string, open func() (io.ReadCloser, error)) (bool, error) {
	n, err, failed := decode(format, probed, open)
	if failed != nil || err != nil || n == 0 {
		return false, failed
	}
	file, err := open()
	if err != nil {
		return false, err
	}
	defer file.Close()
	r := NewReader(file, format)
	defer r.Close()
	n, err = io.Copy(io.Discard, r)
	return err == nil && n > 0 && !r.Trailing, nil
}

// decode decodes the beginning of a file. err is why it can't be decoded, failed why it can't be read.
func decode(format string, most int64, open func() (io.ReadCloser, error)) (n int64, err, failed error) {
	file, failed := open()
	if failed != nil {
		return 0, nil, failed
	}
	defer file.Close()
	r := NewReader(file, format)
	defer r.Close()
	n, err = io.Copy(io.Discard, io.LimitReader(r, most))
	return n, err, nil
}

// isZlib reports whether bytes begin with a zlib header without a preset dictionary (RFC 1950, section 2.2).
func isZlib(head []byte) bool {
	return len(head) > 2 && head[0]&0x0f == 8 && head[0]>>4 <= 7 && head[1]&0x20 == 0 && (int(head[0])<<8|int(head[1]))%31 == 0
}

// LargeWindow reports whether bytes begin a brotli stream with a window of more than 24 bits, which is no part of RFC 7932 and which
// browsers don't decode.
func LargeWindow(head []byte) bool {
	return len(head) >= 2 && head[0]&0x7f == 0x11 && int(head[0]>>7|head[1]&0x1f<<1) > 24
}

// IsText reports whether the beginning of a file is text.
func IsText(head []byte) bool {
	if bytes.IndexByte(head, 0) >= 0 {
		return false
	}
	for range utf8.UTFMax { // the last letter may be cut
		if utf8.Valid(head) {
			return true
		}
		head = head[:max(0, len(head)-1)]
	}
	return false
}
