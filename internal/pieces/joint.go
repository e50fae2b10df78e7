package pieces

import (
	"encoding/base64"
	"encoding/json"
	"errors"
	"io"
	"slices"
	"sort"
	"strings"
)

// A Joint is a content that is put together from others, which are elsewhere already, and from bytes that travel.
type Joint struct {
	Sources []string   `json:"sources"`
	Parts   [][3]int64 `json:"parts"` // bytes, place among the sources, offset there; of bytes that travel the place is -1
}

const (
	mostParts = 200      // so that a joint fits into a header of 8 KB, the least that servers take
	leastKept = 16 << 10 // bytes of a part that is worth a place of its own
)

// Join makes a joint of a plan's ranges. Where there are too many, small parts travel with what stands around them.
func Join(ranges []Range) Joint {
	least := int64(leastKept)
	for {
		if j := join(ranges, least); len(j.Parts) <= mostParts {
			return j
		}
		least *= 2
	}
}

func join(ranges []Range, least int64) (j Joint) {
	for _, r := range ranges {
		part := [3]int64{r.Bytes, -1, 0}
		if r.From != "" && r.Bytes >= least {
			at := slices.Index(j.Sources, r.From)
			if at < 0 {
				at = len(j.Sources)
				j.Sources = append(j.Sources, r.From)
			}
			part[1], part[2] = int64(at), r.Offset
		}
		if n := len(j.Parts); n > 0 && part[1] < 0 && j.Parts[n-1][1] < 0 {
			j.Parts[n-1][0] += r.Bytes
			continue
		}
		j.Parts = append(j.Parts, part)
	}
	return j
}

// Travels is how many bytes a joint doesn't take from its sources.
func (j Joint) Travels() (n int64) {
	for _, p := range j.Parts {
		if p[1] < 0 {
			n += p[0]
		}
	}
	return n
}

// Verify checks that a joint is of so many bytes, and stays inside its sources; size is that of one, -1 for one that isn't there.
func (j Joint) Verify(bytes int64, size func(source string) int64) error {
	if len(j.Parts) > mostParts || len(j.Sources) > mostParts {
		return errors.New("it has too many parts")
	}
	for _, p := range j.Parts {
		if p[0] <= 0 || p[0] > bytes || p[1] < -1 || p[1] >= int64(len(j.Sources)) {
			return errors.New("one of its parts can't be")
		}
		if bytes -= p[0]; p[1] < 0 {
			continue
		}
		source := j.Sources[p[1]]
		if n := size(source); n < 0 || p[2] < 0 || p[2] > n-p[0] {
			return errors.New("a source doesn't hold one of its parts")
		}
	}
	if bytes != 0 {
		return errors.New("its parts don't add up to its length")
	}
	return nil
}

// MarshalText writes a joint for a header: JSON in base64.
func (j Joint) MarshalText() ([]byte, error) {
	data, err := json.Marshal(struct { // without this method
		Sources []string   `json:"sources"`
		Parts   [][3]int64 `json:"parts"`
	}(j))
	return base64.StdEncoding.AppendEncode(nil, data), err
}

// UnmarshalText reads it.
func (j *Joint) UnmarshalText(text []byte) error {
	data, err := base64.StdEncoding.AppendDecode(nil, text)
	if err != nil {
		return err
	}
	return json.Unmarshal(data, (*struct {
		Sources []string   `json:"sources"`
		Parts   [][3]int64 `json:"parts"`
	})(j))
}

// jointKey is that of a joint among an upload's metadata, by the open protocol for resumable uploads: pairs of a key and a value, with
// commas between them.
const jointKey = "joint"

// Metadata writes a joint, as MarshalText does, as an upload's metadata.
func Metadata(text string) string { return jointKey + " " + text }

// InMetadata is the joint in an upload's metadata, as UnmarshalText reads it; "" where there is none.
func InMetadata(metadata string) string {
	for pair := range strings.SplitSeq(metadata, ",") {
		if key, text, _ := strings.Cut(strings.TrimSpace(pair), " "); key == jointKey {
			return text
		}
	}
	return ""
}

// Travelling reads those bytes of a whole content that its joint doesn't take from sources, one after another.
func (j Joint) Travelling(whole io.ReaderAt) io.ReaderAt {
	t := &travelling{whole: whole}
	var at, gone int64
	for _, p := range j.Parts {
		if p[1] < 0 {
			t.runs = append(t.runs, run{gone, at, p[0]})
			gone += p[0]
		}
		at += p[0]
	}
	return t
}

type travelling struct {
	whole io.ReaderAt
	runs  []run
}

// A run of bytes begins at one offset among those that travel, and at another in the whole.
type run struct{ at, whole, bytes int64 }

func (t *travelling) ReadAt(p []byte, at int64) (n int, err error) {
	first := sort.Search(len(t.runs), func(i int) bool { return t.runs[i].at+t.runs[i].bytes > at })
	for _, r := range t.runs[first:] {
		if n == len(p) {
			return n, nil
		}
		skip := at + int64(n) - r.at
		want := p[n:min(len(p), n+int(min(r.bytes-skip, int64(len(p)))))]
		got, err := t.whole.ReadAt(want, r.whole+skip)
		n += got
		if got < len(want) {
			return n, err
		}
	}
	if n < len(p) {
		return n, io.EOF
	}
	return n, nil
}
