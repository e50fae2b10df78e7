package pieces

import (
	"bytes"
	"cmp"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"time"

	"github.com/zeebo/xxh3"

	"havvel/internal/atomicfile"
	"havvel/internal/disk"
)

// A Sketch says which pieces a content consists of, in order. It is for finding them again, not for proving who made them.
type Sketch []Piece

// A Piece is known by its length and a hash.
type Piece struct {
	Bytes uint32
	Sum   xxh3.Uint128
}

// sketched is the average of a sketch's pieces: a change costs about one and a half of them more than its own bytes.
const sketched = 4 << 10

// Draw reads a content to its end.
func Draw(r io.Reader) (Sketch, error) {
	var s Sketch
	err := Cut(r, sketched, func(piece []byte) error {
		s = append(s, Piece{uint32(len(piece)), xxh3.Hash128(piece)})
		return nil
	})
	return s, err
}

// A Source is a content that is at hand elsewhere, by a name there.
type Source struct {
	Name   string
	Sketch Sketch
}

// A Range is a part of a content that is to be made.
type Range struct {
	At, Bytes int64
	From      string // the source that has these bytes; "" where none has
	Offset    int64  // there
}

// Plan says where the parts of a content can be taken from. Ranges follow each other without gaps, and are as long as can be.
func Plan(of Sketch, from []Source) []Range {
	where := index(from)
	var ranges []Range
	var last place // behind the piece before
	var at int64
	for _, p := range of {
		r := Range{At: at, Bytes: int64(p.Bytes)}
		found := from != nil && last.piece > 0 && last.is(from, p)
		if !found {
			last, found = where[p]
		}
		if found {
			r.From, r.Offset = from[last.source].Name, last.offset
			last.offset += r.Bytes
			last.piece++
		} else {
			last = place{}
		}
		ranges = extend(ranges, r)
		at += r.Bytes
	}
	return ranges
}

// A place is a piece of a source, and where it begins.
type place struct {
	source, piece int
	offset        int64
}

// is reports whether there is a piece like p.
func (l place) is(from []Source, p Piece) bool {
	s := from[l.source].Sketch
	return l.piece < len(s) && s[l.piece] == p
}

func index(from []Source) map[Piece]place {
	where := map[Piece]place{}
	for i, s := range from {
		var at int64
		for n, p := range s.Sketch {
			if _, ok := where[p]; !ok {
				where[p] = place{i, n, at}
			}
			at += int64(p.Bytes)
		}
	}
	return where
}

// extend adds a range, to the last one where it goes on.
func extend(ranges []Range, r Range) []Range {
	if n := len(ranges); n > 0 {
		if l := &ranges[n-1]; l.From == r.From && (r.From == "" || l.Offset+l.Bytes == r.Offset) {
			l.Bytes += r.Bytes
			return ranges
		}
	}
	return append(ranges, r)
}

// A Book keeps sketches by the SHA-256, in hex, of their contents. Its folder can be deleted at any time.
type Book struct {
	Folder string // "" keeps nothing
}

const (
	mostKept = 500 // sketches
	record   = 4 + 16
)

// Find returns the sketch of a content, nil where there is none or it is damaged.
func (b Book) Find(sha256 string) Sketch {
	if b.Folder == "" {
		return nil
	}
	at := filepath.Join(b.Folder, sha256)
	data, err := os.ReadFile(at)
	if err != nil || len(data)%record != 8 || binary.LittleEndian.Uint64(data) != xxh3.Hash(data[8:]) {
		return nil
	}
	now := time.Now()
	os.Chtimes(at, now, now) // used now: best effort
	s := make(Sketch, 0, len(data)/record)
	for data = data[8:]; len(data) > 0; data = data[record:] {
		s = append(s, Piece{
			binary.LittleEndian.Uint32(data),
			xxh3.Uint128{Hi: binary.LittleEndian.Uint64(data[4:]), Lo: binary.LittleEndian.Uint64(data[12:])},
		})
	}
	return s
}

// Keep keeps a sketch. Those that weren't used for longest make room.
func (b Book) Keep(sha256 string, s Sketch) error {
	if b.Folder == "" {
		return nil
	}
	data := make([]byte, 8, 8+len(s)*record)
	for _, p := range s {
		data = binary.LittleEndian.AppendUint32(data, p.Bytes)
		data = binary.LittleEndian.AppendUint64(data, p.Sum.Hi)
		data = binary.LittleEndian.AppendUint64(data, p.Sum.Lo)
	}
	binary.LittleEndian.PutUint64(data, xxh3.Hash(data[8:]))
	err := atomicfile.Again(filepath.Join(b.Folder, sha256), func(f disk.File) error {
		_, err := io.Copy(f, bytes.NewReader(data))
		return err
	})
	if err != nil {
		return fmt.Errorf("keeping what %.8s consists of: %w", sha256, err)
	}
	return b.clear()
}

func (b Book) clear() error {
	entries, err := os.ReadDir(b.Folder)
	if err != nil || len(entries) <= mostKept {
		return err
	}
	age := map[string]time.Time{}
	for _, e := range entries {
		if info, err := e.Info(); err == nil {
			age[e.Name()] = info.ModTime()
		}
	}
	slices.SortFunc(entries, func(x, y os.DirEntry) int {
		return cmp.Or(age[x.Name()].Compare(age[y.Name()]), cmp.Compare(x.Name(), y.Name()))
	})
	for _, e := range entries[:len(entries)-mostKept] {
		err = errors.Join(err, os.Remove(filepath.Join(b.Folder, e.Name())))
	}
	return err
}
