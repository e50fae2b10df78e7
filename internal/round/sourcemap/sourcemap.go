// Package sourcemap reads source maps (ECMA-426), which say where in the sources a place in a script comes from.
package sourcemap

import (
	"bytes"
	"encoding/base64"
	"encoding/json"
	"errors"
	"path"
	"sort"
	"strings"
)

// A Map is that of one script.
type Map struct {
	sources []string
	lines   [][]segment
}

type segment struct{ column, source, line, sourceColumn int }

// A Place is one in a source. Lines and columns are from 1.
type Place struct {
	Source       string
	Line, Column int
}

var errNoMap = errors.New("it is no source map of version 3")

// most is the largest map that is read, in segments.
const most = 5_000_000

// Read reads a map. One that is put together of sections (ECMA-426, section 4.2) is none that this package reads.
func Read(data []byte) (*Map, error) {
	var in struct {
		Version    int      `json:"version"`
		SourceRoot string   `json:"sourceRoot"`
		Sources    []string `json:"sources"`
		Mappings   string   `json:"mappings"`
	}
	if json.Unmarshal(bytes.TrimPrefix(data, []byte(")]}'")), &in) != nil || in.Version != 3 || in.Mappings == "" {
		return nil, errNoMap
	}
	m := &Map{}
	for _, s := range in.Sources {
		if in.SourceRoot != "" && !strings.Contains(s, "://") {
			s = path.Join(in.SourceRoot, s)
		}
		m.sources = append(m.sources, s)
	}
	r := reading{sources: len(m.sources)}
	for line := range strings.SplitSeq(in.Mappings, ";") {
		list, err := r.line(line)
		if err != nil {
			return nil, err
		}
		m.lines = append(m.lines, list)
	}
	return m, nil
}

// reading is where a map is read: each number is the difference from the one before.
type reading struct {
	at      segment
	total   int // segments
	sources int
}

// line reads the segments of one line.
func (r *reading) line(text string) (list []segment, err error) {
	r.at.column = 0
	for text := range strings.SplitSeq(text, ",") {
		if text == "" {
			continue
		}
		s, err := r.segment(text)
		if err != nil {
			return nil, err
		}
		list = append(list, s)
	}
	sort.SliceStable(list, func(i, j int) bool { return list[i].column < list[j].column })
	return list, nil
}

func (r *reading) segment(text string) (segment, error) {
	values, ok := numbers(text)
	if r.total++; !ok || len(values) != 1 && len(values) != 4 && len(values) != 5 || r.total > most {
		return segment{}, errNoMap
	}
	at := &r.at
	at.column += values[0]
	if len(values) == 1 {
		return segment{at.column, -1, 0, 0}, nil
	}
	at.source, at.line, at.sourceColumn = at.source+values[1], at.line+values[2], at.sourceColumn+values[3]
	if at.source < 0 || at.source >= r.sources || at.line < 0 || at.sourceColumn < 0 {
		return segment{}, errNoMap
	}
	return *at, nil
}

const digits = "ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789+/"

// numbers reads those of a segment, written in digits of five bits, the least first, the sign in the lowest bit.
func numbers(text string) (list []int, ok bool) {
	value, shift := 0, 0
	for i := range len(text) {
		d := strings.IndexByte(digits, text[i])
		if d < 0 || shift > 30 {
			return nil, false
		}
		value |= d & 31 << shift
		if shift += 5; d&32 != 0 {
			continue
		}
		if value&1 != 0 {
			value = -(value >> 1)
		} else {
			value >>= 1
		}
		list = append(list, value)
		value, shift = 0, 0
	}
	return list, shift == 0
}

// At finds where a place of the script comes from. Its line and column are from 1.
func (m *Map) At(line, column int) (p Place, ok bool) {
	if line < 1 || line > len(m.lines) {
		return p, false
	}
	list := m.lines[line-1]
	i := sort.Search(len(list), func(i int) bool { return list[i].column > column-1 }) - 1
	if i < 0 || list[i].source < 0 {
		return p, false
	}
	s := list[i]
	return Place{m.sources[s.source], s.line + 1, s.sourceColumn + 1}, true
}

// Named is what a script says of its map: its address, or the map itself where that is inside. Both are empty where it says nothing.
func Named(script []byte) (address string, inside []byte) {
	tail := script[max(0, len(script)-1<<20):]
	at := bytes.LastIndex(tail, []byte("//# sourceMappingURL="))
	if at < 0 {
		return "", nil
	}
	address, _, _ = strings.Cut(string(tail[at+len("//# sourceMappingURL="):]), "\n")
	address = strings.TrimSpace(address)
	if !strings.HasPrefix(address, "data:") {
		return address, nil
	}
	_, text, _ := strings.Cut(address, "base64,")
	if data, err := base64.StdEncoding.DecodeString(text); err == nil {
		return "", data
	}
	return "", nil
}
