package playhost

import (
	"archive/zip"
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"path"
	"strings"
	"unicode/utf8"
)

// What an archive may hold.
const (
	mostFiles    = 20_000
	mostUnpacked = 4 << 30
	mostFile     = 1 << 30
	mostRatio    = 1100 // deflate makes nothing smaller than by 1032
)

// An arrival is an archive as the host reads it.
type arrival struct {
	files    []arrivedFile
	bytes    int64 // unpacked
	problems []Problem
	isolated bool // it shares memory between threads, for which pages must be isolated
}

type arrivedFile struct {
	path   string
	sha256 string
	bytes  int64
	zipped *zip.File
}

func (a *arrival) say(file, format string, args ...any) {
	a.problems = append(a.problems, Problem{file, fmt.Sprintf(format, args...)})
}

// survey goes through a zip, and lists what is in it, and all that is wrong with it; nothing is kept. Sizes that the directory states are
// not trusted: bytes are counted as they come.
func survey(ctx context.Context, archive io.ReaderAt, size int64) (*arrival, error) {
	a := &arrival{}
	z, err := zip.NewReader(archive, size)
	if errors.Is(err, zip.ErrFormat) || errors.Is(err, io.ErrUnexpectedEOF) {
		a.say("", "the archive is not a zip that can be opened")
		return a, nil
	}
	if err != nil && !errors.Is(err, zip.ErrInsecurePath) {
		return nil, err
	}
	if len(z.File) > mostFiles {
		a.say("", "%d files are too many; %d are taken", len(z.File), mostFiles)
		return a, nil
	}
	seen, left := map[string]string{}, int64(mostUnpacked)
	for _, f := range z.File {
		if strings.HasSuffix(f.Name, "/") && f.UncompressedSize64 == 0 {
			continue
		}
		if why := badName(f.Name); why != "" {
			a.say(f.Name, "%s", why)
			continue
		}
		low := strings.ToLower(f.Name)
		if other, twice := seen[low]; twice {
			a.say(f.Name, "this name stands in the archive twice, also as %s", other)
			continue
		}
		seen[low] = f.Name
		if !f.Mode().IsRegular() {
			a.say(f.Name, "it is a link or a device, and not a file")
			continue
		}
		n := a.look(f, min(left, mostFile))
		a.bytes += n
		if err := ctx.Err(); err != nil {
			return nil, err
		}
		if left -= n; left <= 0 {
			a.say("", "the archive unpacks to more than %d GB", mostUnpacked>>30)
			break
		}
	}
	if seen["index.html"] != "index.html" {
		a.say("", "there is no index.html at the root")
	}
	return a, nil
}

// badName says what is wrong with a file's name; "" when nothing is.
func badName(name string) string {
	switch {
	case !utf8.ValidString(name) || strings.ContainsAny(name, "\x00\\:") || len(name) > 500:
		return "this name can't be served"
	case strings.HasPrefix(name, "/") || path.Clean(name) != name || name == ".." || strings.HasPrefix(name, "../"):
		return "this name leads out of the archive"
	}
	return ""
}

// look reads one file, of up to most bytes, and returns how many it read.
func (a *arrival) look(f *zip.File, most int64) int64 {
	r, err := f.Open()
	if err != nil {
		a.say(f.Name, "it can't be unpacked")
		return 0
	}
	defer r.Close()
	if packed := int64(f.CompressedSize64); packed > 0 && packed < most/mostRatio {
		most = packed*mostRatio + 1<<16
	}
	seen := &threads{r: r}
	sum, n, err := measure(seen, most)
	switch {
	case errors.Is(err, errTooMuch):
		a.say(f.Name, "it unpacks to more than its size allows")
		return n
	case err != nil:
		a.say(f.Name, "it is damaged")
		return n
	}
	a.files = append(a.files, arrivedFile{f.Name, sum, n, f})
	if strings.HasSuffix(strings.ToLower(f.Name), ".wasm") && n < 256<<20 && !a.isolated {
		a.isolated = seen.shared
	}
	return n
}

// unpack keeps the contents of an arrival that aren't kept yet.
func (h *Host) unpack(ctx context.Context, a *arrival) ([]*content, error) {
	var list []*content
	from := map[string]*zip.File{}
	for _, f := range a.files {
		if from[f.sha256] == nil {
			from[f.sha256] = f.zipped
			list = append(list, &content{sha256: f.sha256, bytes: f.bytes})
		}
	}
	if err := h.claim(ctx, list); err != nil {
		return nil, err
	}
	for _, c := range list {
		if c.kept {
			continue
		}
		r, err := from[c.sha256].Open()
		if err == nil {
			err = errors.Join(h.keep(ctx, c, r), r.Close())
		}
		if err != nil {
			return nil, err
		}
	}
	return list, nil
}

// threads looks for WebAssembly memory that threads share.
type threads struct {
	r      io.Reader
	head   []byte
	shared bool
}

func (f *threads) Read(p []byte) (int, error) {
	n, err := f.r.Read(p)
	if len(f.head) < 64<<10 {
		f.head = append(f.head, p[:n]...)
		f.shared = sharedMemory(f.head)
	}
	return n, err
}

// sharedMemory reports whether a WebAssembly module's first bytes declare or import memory that threads share (the limits flag
// 3, core specification with threads, section 5.3.9).
func sharedMemory(head []byte) bool {
	if !bytes.HasPrefix(head, []byte("\x00asm")) || len(head) < 8 {
		return false
	}
	for data := head[8:]; len(data) > 2; {
		id := data[0]
		size, n := leb(data[1:])
		if n == 0 || size > uint64(len(data)-1-n) {
			return false
		}
		body := data[1+n : 1+n+int(size)]
		switch id {
		case 5: // memories
			return len(body) > 1 && body[1]&2 != 0
		case 2: // imports: a memory has kind 2, and its limits behind
			if bytes.Contains(body, []byte("memory\x02\x03")) {
				return true
			}
		}
		data = data[1+n+int(size):]
	}
	return false
}

func leb(data []byte) (v uint64, n int) {
	for i, b := range data[:min(5, len(data))] {
		v |= uint64(b&0x7f) << (7 * i)
		if b < 0x80 {
			return v, i + 1
		}
	}
	return 0, 0
}
