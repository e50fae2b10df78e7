package export

import (
	"bufio"
	"bytes"
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"hash/crc32"
	"io"
	"path"
	"regexp"
	"strings"
	"sync"

	"github.com/klauspost/compress/flate"
	"github.com/klauspost/compress/zstd"
	"golang.org/x/sync/semaphore"

	"havvel/internal/export/encoding"
	"havvel/internal/export/link"
	"havvel/internal/export/media"
	"havvel/internal/export/script"
	"havvel/internal/export/wasm"
	"havvel/internal/export/web"
	"havvel/internal/progress"
)

const (
	maxPage    = 24 << 20 // of a page that is read for links, in bytes
	maxText    = 64 << 20 // the largest stylesheet or script that is read for links, in bytes
	maxJSON    = 8 << 20  // likewise JSON
	largeText  = 8 << 20  // texts above it are read one at a time
	maxDecoded = 4 << 30  // what a compressed file may decode to
	leastBomb  = 1 << 30  // up to which a compressed file may decode to any size
	maxRatio   = 200      // decoded to compressed, above it

	browserWindow = 8 << 20 // of zstd, in bytes (RFC 9659)
)

// turns hold back what takes much memory while it is read, so that it stays bounded.
type turns struct {
	large sync.Mutex          // held while a large text is in memory
	trees *semaphore.Weighted // bytes of scripts that are parsed at a time
}

func newTurns() *turns { return &turns{trees: semaphore.NewWeighted(script.LargestTree)} }

// read goes through the file's bytes once: hash, kind, and what they say. Texts that are held in memory whole and are
// large are read one at a time, so that memory stays bounded; t holds the others back meanwhile.
func (f *File) read(ctx context.Context, t *turns) error {
	if f.Bytes > largeText && (isPageName(f.Path) || hasEnding(f.Path, ".js", ".mjs", ".css", ".json", ".gz", ".br")) {
		t.large.Lock()
		defer t.large.Unlock()
	}
	if f.Junk == "" {
		f.Junk = junk(f.Path)
	}
	if f.Junk != "" {
		return nil // what does not belong in the build need not be read
	}
	opened, err := f.open()
	if err != nil {
		return &Unreadable{Reason: f.Path + " in it can't be opened", Cause: err}
	}
	defer opened.Close()
	hash := sha256.New()
	// One byte more than was announced is enough to know that the announcement was false.
	limited := io.LimitReader(progress.Reader(ctx, opened, progress.None), f.Bytes+1)
	crc := crc32.NewIEEE()
	counted := &counter{r: io.TeeReader(limited, io.MultiWriter(hash, crc))}
	raw := bufio.NewReaderSize(counted, 64<<10)
	head, err := raw.Peek(8 << 10)
	if err != nil && !errors.Is(err, io.EOF) {
		return f.unreadable(err)
	}
	if f.Encoding, err = f.encoded(head); err != nil {
		return f.unreadable(err)
	}
	f.facts(ctx, raw, t)
	if _, err := io.Copy(io.Discard, raw); err != nil {
		return f.unreadable(err)
	}
	if counted.err != nil && !errors.Is(counted.err, io.EOF) { // it may have been met while the content was read
		return f.unreadable(counted.err)
	}
	if counted.n != f.Bytes {
		return &Unreadable{
			Reason: fmt.Sprintf("%s in it has %d bytes where %d were announced", f.Path, counted.n, f.Bytes),
			Next:   "it may have changed while it was read; try again",
		}
	}
	hash.Sum(f.SHA256[:0])
	f.CRC32 = crc.Sum32()
	return nil
}

func (f *File) unreadable(err error) error {
	if errors.Is(err, context.Canceled) {
		return err
	}
	return &Unreadable{Reason: f.Path + " in it can't be read to its end", Cause: err}
}

// counter counts what is read, and keeps the error that ended it.
type counter struct {
	r   io.Reader
	n   int64
	err error
}

func (c *counter) Read(p []byte) (int, error) {
	n, err := c.r.Read(p)
	c.n += int64(n)
	if err != nil {
		c.err = err
	}
	return n, err
}

// encoded tells in which compressed format the file's bytes are.
func (f *File) encoded(head []byte) (string, error) {
	_, sure := kindByMagic(head)
	return encoding.Detect(f.Path, head, sure, f.open)
}

// facts reads what the file holds, decoded where it is compressed. What is wrong with the content is noted as damage.
func (f *File) facts(ctx context.Context, raw *bufio.Reader, t *turns) {
	start, _ := raw.Peek(8 << 10) // an error is met again
	decoder := encoding.NewReader(raw, f.Encoding)
	defer decoder.Close()
	content := bufio.NewReaderSize(decoder, 64<<10)
	head, _ := content.Peek(512) // likewise
	f.Kind = kindOf(f.PlainPath(), head)
	isMedia := f.Kind == KindPicture || f.Kind == KindSound || f.Kind == KindVideo
	sample := f.Encoding == "" && f.Bytes >= leastSqueezed && !isMedia && f.Kind != KindArchive
	most := int64(maxDecoded)
	if f.Encoding != "" {
		most = min(most, max(leastBomb, f.Bytes*maxRatio))
	}
	inner := sha256.New()
	limited := io.LimitReader(content, most+1)
	if f.Encoding != "" {
		limited = io.TeeReader(limited, inner)
	}
	m := &ends{r: limited, keep: isMedia || sample}
	f.understand(ctx, m, t)
	_, err := io.Copy(io.Discard, m)
	f.Decoded = m.n
	if f.Encoding != "" {
		inner.Sum(f.Inner[:0])
		if ctx.Err() == nil {
			f.judge(decoder, start, most, err)
		}
	}
	if isMedia {
		f.Media = media.Read(m.head, m.tail, m.n)
	}
	if sample && len(m.head) > 0 {
		f.Squeezed = int64(float64(f.Bytes) * squeeze(m.head))
	}
}

// judge notes what is wrong with a compressed file, of which most bytes are read at most. err is of reading it.
func (f *File) judge(decoder *encoding.Reader, start []byte, most int64, err error) {
	switch {
	case f.Encoding == encoding.Brotli && encoding.LargeWindow(start):
		f.Damage = "its brotli window has more than 24 bits, which browsers can't decode"
	case err != nil:
		f.Damage = fmt.Sprintf("its %s data is damaged or cut off: after %d decoded bytes it can't be read on", encoding.Title(f.Encoding),
			f.Decoded)
	case f.Decoded > most:
		f.Damage = fmt.Sprintf("it decodes to more than %d MB", most>>20)
	default:
		f.Unfit = unfit(f.Encoding, decoder, start)
	}
}

// unfit says why a browser doesn't decode all of a compressed file that is whole.
func unfit(format string, d *encoding.Reader, start []byte) string {
	var frame zstd.Header
	switch {
	case format == encoding.Gzip && d.Members > 1:
		return fmt.Sprintf("it is %d gzip files in one, of which browsers decode only the first", d.Members)
	case format == encoding.Zstd && frame.Decode(start) == nil && frame.WindowSize > browserWindow:
		return fmt.Sprintf("its zstd window is %d MB, and browsers decode up to %d MB", frame.WindowSize>>20, browserWindow>>20)
	}
	return ""
}

// leastSqueezed is the smallest file of which it is estimated what compression would leave of it, in bytes.
const leastSqueezed = 40_000

// squeeze is what fast compression leaves of a sample, as a share of it.
func squeeze(sample []byte) float64 {
	var c counted
	w, err := flate.NewWriter(&c, flate.BestSpeed)
	if err != nil {
		return 1
	}
	w.Write(sample) // counting never fails
	w.Close()
	return min(1, float64(c)/float64(len(sample)))
}

// counted counts what is written.
type counted int

func (c *counted) Write(p []byte) (int, error) {
	*c += counted(len(p))
	return len(p), nil
}

// understand reads the kinds of file that say something.
func (f *File) understand(ctx context.Context, content io.Reader, t *turns) {
	switch f.Kind {
	case KindWasm:
		var err error
		f.Wasm, err = wasm.Read(content)
		var broken *wasm.Broken
		if errors.As(err, &broken) {
			f.Damage = broken.Error()
		}
	case KindPage: // of a very large one, its beginning tells what it is
		if data := f.all(io.LimitReader(content, maxPage), maxText); data != nil {
			f.readInTurn(ctx, data, t)
		}
	case KindStyle, KindScript:
		if data := f.all(content, maxText); data != nil {
			f.readInTurn(ctx, data, t)
		}
	case KindText:
		data := f.all(content, maxJSON)
		f.PrivateKey = privateKey.Match(data)
		f.readData(data)
	}
}

// readData reads text that is data: maps, models and lists name other files, too.
func (f *File) readData(data []byte) {
	switch start := bytes.TrimLeft(bytes.TrimPrefix(data, []byte("\ufeff")), " \t\r\n"); {
	case hasEnding(f.PlainPath(), ".json", ".webmanifest"):
		var err error
		if f.links, err = web.ReadJSON(data); err != nil {
			f.Damage = "it is not valid JSON: " + err.Error()
		}
		if !isManifest(f.PlainPath(), data) {
			f.doubt()
		}
	case len(start) == 0 || hasEnding(f.PlainPath(), ".txt", ".md", ".map", ".log") || prose.MatchString(path.Base(f.Path)):
	case start[0] == '{' || start[0] == '[':
		f.links, _ = web.ReadJSON(data) // by another name it may be something else
		f.doubt()
	default:
		f.links = web.ReadText(data)
	}
}

// doubt makes the links of data possible ones: what its keys mean, and what a name is put behind, the game knows.
func (f *File) doubt() {
	for i := range f.links {
		f.links[i].Certainty, f.links[i].Base = link.Possible, link.OfAny
	}
}

// isManifest reports whether JSON is a web app manifest (W3C), whose addresses are relative to it.
func isManifest(name string, data []byte) bool {
	return hasEnding(name, ".webmanifest") ||
		strings.Contains(path.Base(name), "manifest") && (bytes.Contains(data, []byte(`"icons"`)) || bytes.Contains(data, []byte(`"start_url"`)))
}

// prose matches the names of texts for people.
var prose = regexp.MustCompile(`(?i)^(licen[cs]es?|copying|notice|readme|credits|authors|changelog|changes)\b`)

// privateKey matches the beginning of a private key, as RFC 7468 writes it, with some of its letters.
var privateKey = regexp.MustCompile(`-----BEGIN [A-Z ]*PRIVATE KEY-----(\\n|\s)*[A-Za-z0-9+/]{16}`)

// all reads the whole content of a text; nil when it is larger than most, or can't be read.
func (f *File) all(content io.Reader, most int64) []byte {
	if f.Encoding != "" {
		most = min(most, 24<<20) // its length is not known before, and a growing buffer takes more than it holds
	} else if f.Bytes > most && f.Kind != KindPage {
		return nil
	}
	var b bytes.Buffer
	if f.Encoding == "" {
		b.Grow(int(min(f.Bytes, most)) + bytes.MinRead)
	}
	if n, err := io.Copy(&b, io.LimitReader(content, most+1)); err != nil || n > most {
		return nil
	}
	return b.Bytes()
}

// readInTurn reads a text when there is room for the tree of its scripts. One that is stopped reads nothing.
func (f *File) readInTurn(ctx context.Context, data []byte, t *turns) {
	size := int64(min(len(data), script.LargestTree))
	if t.trees.Acquire(ctx, size) != nil {
		return
	}
	defer t.trees.Release(size)
	f.readText(data)
}

func (f *File) readText(data []byte) {
	f.PrivateKey = privateKey.Match(data)
	switch f.Kind {
	case KindPage:
		f.Page = web.ReadPage(data)
		f.links = f.Page.Links
	case KindStyle:
		style := web.ReadStyle(data)
		f.Style, f.links = &style, style.Links
	case KindScript:
		f.Script = web.ReadScript(data)
		f.links = f.Script.Links
	}
}

// ends counts what is read and, where it is asked to, keeps the beginning and the end.
type ends struct {
	r          io.Reader
	keep       bool
	n          int64
	head, tail []byte
}

func (e *ends) Read(p []byte) (int, error) {
	n, err := e.r.Read(p)
	e.n += int64(n)
	if e.keep {
		if room := media.HeadSize - len(e.head); room > 0 {
			e.head = append(e.head, p[:min(n, room)]...)
		}
		last := p[max(0, n-media.TailSize):n] // a reader may ask for the whole file at once
		if len(e.tail)+len(last) > 4*media.TailSize {
			e.tail = append(e.tail[:0], e.tail[max(0, len(e.tail)-media.TailSize):]...)
		}
		e.tail = append(e.tail, last...)
	}
	return n, err
}
