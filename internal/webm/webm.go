// Package webm reads, writes and fixes films in WebM (a part of Matroska, RFC 9559): their size, a film of pictures that somebody else
// encoded, and what a player needs to jump in one that was recorded as it happened.
package webm

import (
	"encoding/binary"
	"errors"
	"fmt"
	"math"
	"math/bits"
	"slices"
	"time"
)

// Elements, by their ids (RFC 9559, section 5).
const (
	idHeader   = 0x1a45dfa3
	idSegment  = 0x18538067
	idInfo     = 0x1549a966
	idScale    = 0x2ad7b1
	idDuration = 0x4489
	idTracks   = 0x1654ae6b
	idTrack    = 0xae
	idVideo    = 0xe0
	idCodec    = 0x86
	idWide     = 0xb0
	idHigh     = 0xba
	idCluster  = 0x1f43b675
	idTime     = 0xe7
	idBlock    = 0xa3 // SimpleBlock
	idGroup    = 0xa0 // BlockGroup
	idCues     = 0x1c53bb6b
	idSeekHead = 0x114d9b74
	idTags     = 0x1254c367
)

// An element is a part of a film. One of unknown size reaches to the end of what is there.
type element struct {
	id      uint32
	head    []byte // id and size as they stand
	body    []byte
	unknown bool
	cut     bool // less is there than it says
}

// next reads the first element in data; ok is false where none begins.
func next(data []byte) (e element, rest []byte, ok bool) {
	if len(data) < 2 {
		return e, nil, false
	}
	n := bits.LeadingZeros8(data[0]) + 1
	if n > 4 || len(data) < n+1 {
		return e, nil, false
	}
	for _, b := range data[:n] {
		e.id = e.id<<8 | uint32(b)
	}
	m := bits.LeadingZeros8(data[n]) + 1
	if m > 8 || len(data) < n+m {
		return e, nil, false
	}
	size := uint64(data[n]) & (1<<(8-m) - 1)
	e.unknown = size == 1<<(8-m)-1
	for _, b := range data[n+1 : n+m] {
		size, e.unknown = size<<8|uint64(b), e.unknown && b == 0xff
	}
	e.head, e.body = data[:n+m], data[n+m:]
	switch {
	case e.unknown:
	case size > uint64(len(e.body)):
		e.cut = true
	default:
		e.body = e.body[:size]
	}
	return e, data[n+m+len(e.body):], true
}

// number reads an unsigned integer of up to eight bytes.
func number(body []byte) (v uint64) {
	for _, b := range body[:min(len(body), 8)] {
		v = v<<8 | uint64(b)
	}
	return v
}

// Size reads the width and height of a film from its first bytes; 0 when they don't say.
func Size(data []byte) (width, height int) {
	for _, id := range []uint32{idSegment, idTracks, idTrack, idVideo} {
		data = find(data, id)
	}
	return int(min(number(find(data, idWide)), 1<<20)), int(min(number(find(data, idHigh)), 1<<20))
}

// find is the body of the first element of an id.
func find(data []byte, id uint32) []byte {
	for {
		e, rest, ok := next(data)
		if !ok {
			return nil
		}
		if e.id == id {
			return e.body
		}
		data = rest
	}
}

// Whole reports whether a film is there up to its end: each element has the size that it states.
func Whole(data []byte) bool {
	for len(data) > 0 {
		e, rest, ok := next(data)
		switch {
		case !ok || e.cut:
			return false
		case e.unknown: // what is in it can stand beside it as well
			data = e.body
		default:
			data = rest
		}
	}
	return true
}

// ErrNoFilm says that data are no WebM, or hold no picture.
var ErrNoFilm = errors.New("this is no WebM film")

// A cluster is some pictures of a film.
type cluster struct {
	time   uint64 // of the first, in units of the film's scale
	last   uint64 // of the last
	blocks []byte
	key    bool // it begins with a picture that needs no other
}

// Seekable writes a film that was recorded as it happened so that a player knows its length, and where to jump to: with a duration, sizes,
// and cues (RFC 9559, sections 5.1.2 and 5.1.5). What is cut at its end is left out. The pictures stay as they are.
func Seekable(data []byte) ([]byte, error) {
	header, rest, ok := next(data)
	if !ok || header.id != idHeader || header.cut || header.unknown {
		return nil, ErrNoFilm
	}
	segment, _, ok := next(rest)
	if !ok || segment.id != idSegment {
		return nil, fmt.Errorf("%w: it has no segment", ErrNoFilm)
	}
	info, tracks, clusters := partsOf(segment.body)
	if info == nil || tracks == nil || len(clusters) == 0 {
		return nil, fmt.Errorf("%w: it holds no picture", ErrNoFilm)
	}
	return slices.Concat(header.head, header.body, write(info, tracks, clusters)), nil
}

// partsOf are the parts of a segment that are there whole, and the clusters, of which the last may be cut.
func partsOf(body []byte) (info, tracks []byte, clusters []cluster) {
	for {
		e, rest, ok := next(body)
		if !ok || e.cut && e.id != idCluster {
			return info, tracks, clusters
		}
		switch e.id {
		case idInfo:
			info = e.body
		case idTracks:
			tracks = slices.Concat(e.head, e.body)
		case idCluster:
			c, after := readCluster(e.body)
			if e.unknown {
				rest = after
			}
			if len(c.blocks) > 0 {
				clusters = append(clusters, c)
			}
		}
		if body = rest; len(rest) == 0 {
			return info, tracks, clusters
		}
	}
}

// readCluster reads what is in a cluster, up to where another element of the segment begins.
func readCluster(body []byte) (c cluster, rest []byte) {
	for {
		e, after, ok := next(body)
		if !ok || e.cut || e.unknown || slices.Contains([]uint32{idCluster, idCues, idInfo, idTracks, idSeekHead, idTags}, e.id) {
			return c, body[:len(body):len(body)]
		}
		switch e.id {
		case idTime:
			c.time = number(e.body)
			c.last = c.time
		case idBlock, idGroup:
			block, key := e.body, true
			if e.id == idGroup {
				block = find(e.body, 0xa1)
			} else if len(block) > 3 {
				key = block[3]&0x80 != 0 // behind the track, in one byte, and the time
			}
			if len(block) > 3 {
				if len(c.blocks) == 0 {
					c.key = key
				}
				at := int64(c.time) + int64(int16(binary.BigEndian.Uint16(block[1:3])))
				c.last = max(c.last, uint64(max(at, 0)))
			}
			c.blocks = append(append(c.blocks, e.head...), e.body...)
		}
		body = after
	}
}

// write puts a segment together.
func write(info, tracks []byte, clusters []cluster) []byte {
	var facts []byte
	for body := info; ; {
		e, rest, ok := next(body)
		if !ok {
			break
		}
		if e.id != idDuration {
			facts = append(append(facts, e.head...), e.body...)
		}
		body = rest
	}
	last := clusters[0].last
	for _, c := range clusters {
		last = max(last, c.last)
	}
	length := binary.BigEndian.AppendUint64(nil, math.Float64bits(float64(last+1)))
	front := slices.Concat(with(idInfo, slices.Concat(facts, with(idDuration, length))), tracks)

	var parts, cues []byte
	points := 0
	for _, c := range clusters {
		if c.key {
			points++
		}
	}
	const pointBytes = 2 + (2 + 8) + (2 + 3 + 10) // of a cue below
	at := len(front) + points*pointBytes + 4 + 8  // the cues' own head
	for _, c := range clusters {
		if c.key {
			where := slices.Concat([]byte{0xf7, 0x81, 1}, fixed(0xf1, uint64(at+len(parts))))
			cues = append(cues, slices.Concat([]byte{0xbb, byte(0x80 | 25)}, fixed(0xb3, c.time), []byte{0xb7, byte(0x80 | len(where))}, where)...)
		}
		parts = append(parts, with(idCluster, slices.Concat(with(idTime, binary.BigEndian.AppendUint64(nil, c.time)), c.blocks))...)
	}
	return with(idSegment, slices.Concat(front, with(idCues, cues), parts))
}

// with puts a head before a body, its size in eight bytes.
func with(id uint32, body []byte) []byte {
	return slices.Concat(binary.BigEndian.AppendUint64(short(id), uint64(len(body))|1<<56), body)
}

// short is an id in as many bytes as it has.
func short(id uint32) []byte {
	return binary.BigEndian.AppendUint32(nil, id)[bits.LeadingZeros32(id)/8:]
}

// fixed is a number in eight bytes.
func fixed(id uint32, v uint64) []byte {
	return binary.BigEndian.AppendUint64(append(short(id), 0x88), v)
}

// Key is the first picture of a film, as its codec wrote it, and the codec's id, such as "V_VP8" (RFC 9559, section 5.1.4.1.21); nil where
// there is none.
func Key(data []byte) (picture []byte, codec string) {
	segment := find(data, idSegment)
	codec = string(find(find(find(segment, idTracks), idTrack), idCodec))
	for len(segment) > 0 {
		e, rest, ok := next(segment)
		if !ok {
			return nil, codec
		}
		if e.id == idCluster {
			for body := e.body; len(body) > 0; {
				inner, more, ok := next(body)
				if !ok {
					break
				}
				block := inner.body
				if inner.id == idGroup {
					block = find(inner.body, 0xa1)
				}
				if (inner.id == idBlock || inner.id == idGroup) && len(block) > 4 {
					return block[4:], codec // behind the track's number, a time and flags
				}
				body = more
			}
		}
		segment = rest
	}
	return nil, codec
}

// Length is how long a film lasts: as it says itself or, where it was recorded as it happened, up to its last picture. It is 0
// where neither is known.
func Length(data []byte) time.Duration {
	segment := find(data, idSegment)
	info := find(segment, idInfo)
	scale := float64(number(find(info, idScale)))
	if scale == 0 {
		scale = 1e6 // nanoseconds (RFC 9559, section 5.1.2.9)
	}
	length := 0.
	switch b := find(info, idDuration); len(b) {
	case 4:
		length = float64(math.Float32frombits(binary.BigEndian.Uint32(b)))
	case 8:
		length = math.Float64frombits(binary.BigEndian.Uint64(b))
	}
	if !(length > 0) {
		_, _, clusters := partsOf(segment)
		for _, c := range clusters {
			length = max(length, float64(c.last))
		}
	}
	if length *= scale; length > 1e15 {
		return 0
	}
	return time.Duration(length)
}
