package standin

import (
	"archive/zip"
	"bytes"
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"hash/crc32"
	"image/png"
	"io"
	"os"
	"path"
	"regexp"
	"slices"
	"strings"
	"time"
)

// What an archive may unpack to.
const (
	maxFiles    = 1500
	maxUnpacked = 400_000_000
	maxFile     = 60_000_000
)

// verifyLater verifies a version in the background, as a portal does.
func (a *Portal) verifyLater(id string) {
	if a.options.Fault == NeverFinish {
		return
	}
	a.work.Go(func() {
		select {
		case <-time.After(a.options.VerifyTime):
		case <-a.done.Done():
			return // it is still checking, and is taken up again at the next start
		}
		problems, good, bad := a.verify(a.archive(id)), ready, rejected
		if a.options.Kind == Desk {
			good, bad = queued, declined
		}
		// A change that can't be written down leaves the version checking; the next start verifies again.
		_ = a.change(func(s *state) error {
			v := s.Versions[id]
			v.Problems, v.State = problems, good
			if len(problems) > 0 {
				v.State = bad
			}
			return nil
		})
	})
}

// verify goes through an archive and lists all that is wrong with it.
func (a *Portal) verify(file string) []problem {
	z, err := zip.OpenReader(file)
	if err != nil && !errors.Is(err, zip.ErrInsecurePath) {
		return []problem{{"", "the archive is not a zip that we can open"}}
	}
	defer z.Close()
	if len(z.File) > maxFiles {
		return []problem{{"", fmt.Sprintf("%d files are too many, we take %d", len(z.File), maxFiles)}}
	}
	c := &verifier{wants: a.options.Wants, encodings: a.options.Encodings, names: map[string]bool{}}
	for _, f := range z.File {
		c.names[f.Name] = true
	}
	if entry, err := os.ReadFile(strings.TrimSuffix(file, ".zip") + ".html"); err == nil { // it came apart
		c.names["index.html"] = true
		c.page("index.html", entry)
	}
	seen := map[string]string{}
	for _, f := range z.File {
		if strings.HasSuffix(f.Name, "/") {
			continue
		}
		if escapes(f.Name) {
			c.say(f.Name, "this name leads out of the archive")
			continue
		}
		low := strings.ToLower(f.Name)
		if other, ok := seen[low]; ok {
			c.say(f.Name, "this name stands in the archive twice, also as "+other)
		}
		seen[low] = f.Name
		if !c.unpack(f) {
			break
		}
	}
	if !c.names["index.html"] {
		c.say("", "there is no index.html at the root")
	}
	return c.problems
}

type verifier struct {
	wants     string
	encodings []string
	names     map[string]bool
	unpacked  int64
	problems  []problem
}

func (c *verifier) say(file, words string) {
	c.problems = append(c.problems, problem{file, words})
}

func escapes(name string) bool {
	name = strings.ReplaceAll(name, `\`, "/")
	if strings.HasPrefix(name, "/") || strings.Contains(name, ":") {
		return true
	}
	for part := range strings.SplitSeq(name, "/") {
		if part == ".." {
			return true
		}
	}
	return false
}

// unpack reads one entry, within bounds, and looks into it. It is false when it makes no sense to go on.
func (c *verifier) unpack(f *zip.File) bool {
	r, err := f.Open()
	if err != nil {
		c.say(f.Name, "it can't be unpacked")
		return true
	}
	defer r.Close()
	data, err := io.ReadAll(io.LimitReader(r, maxFile+1))
	c.unpacked += int64(len(data))
	switch {
	case c.unpacked > maxUnpacked:
		c.say(f.Name, "the archive unpacks to more than we take")
		return false
	case len(data) > maxFile:
		c.say(f.Name, "it unpacks to more than 60 MB")
		return true
	case err != nil || crc32.ChecksumIEEE(data) != f.CRC32:
		c.say(f.Name, "it is damaged")
		return true
	}
	c.look(f.Name, data)
	return true
}

// look judges a file by its content.
func (c *verifier) look(name string, data []byte) {
	switch strings.ToLower(path.Ext(name)) {
	case ".html", ".htm":
		c.page(name, data)
	case ".wasm":
		if !wholeModule(data) {
			c.say(name, "it is not a whole WebAssembly module")
		}
	case ".json":
		if !json.Valid(bytes.TrimPrefix(data, []byte("\ufeff"))) {
			c.say(name, "it is not valid JSON")
		}
	case ".png":
		if _, err := png.DecodeConfig(bytes.NewReader(data)); err != nil {
			c.say(name, "it is not a PNG picture")
		}
	case ".br":
		if !slices.Contains(c.encodings, "br") {
			c.say(name, "we can't serve brotli files")
		}
	case ".exe", ".dll", ".bat", ".sh", ".php":
		c.say(name, "programs are not allowed")
	}
}

var (
	comment    = regexp.MustCompile(`(?s)<!--.*?-->`)
	references = regexp.MustCompile(`(?i)<(?:script|img|link|audio|video|source)\b[^>]*?\s(?:src|href)\s*=\s*["']([^"'#?]+)`)
)

func (c *verifier) page(name string, data []byte) {
	text := comment.ReplaceAll(data, nil)
	wanted := false
	for _, m := range references.FindAllSubmatch(text, -1) {
		address := string(m[1])
		if address == c.wants {
			wanted = true
			continue
		}
		if strings.Contains(address, ":") || strings.HasPrefix(address, "//") {
			continue
		}
		if strings.HasPrefix(address, "/") {
			c.say(name, "it asks for "+address+", which is not in the archive")
		} else if !c.names[path.Join(path.Dir(name), address)] {
			c.say(name, "it asks for "+address+", which is not in the archive under this name")
		}
	}
	if name == "index.html" && c.wants != "" && !wanted {
		c.say(name, "our script "+c.wants+" is not in the page")
	}
}

// wholeModule walks the sections of a WebAssembly module (core specification, section 5.5) to its end.
func wholeModule(data []byte) bool {
	if !bytes.HasPrefix(data, []byte("\x00asm\x01\x00\x00\x00")) {
		return false
	}
	for data = data[8:]; len(data) > 0; {
		if data[0] > 13 {
			return false
		}
		size, n := binary.Uvarint(data[1:])
		if n <= 0 || size > uint64(len(data)-1-n) {
			return false
		}
		data = data[1+n+int(size):]
	}
	return true
}
