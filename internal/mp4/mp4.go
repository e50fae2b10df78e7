// Package mp4 reads of a film in MP4 (ISO/IEC 14496-12) how large it is and how long it lasts.
package mp4

import (
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"time"
)

// ErrNoFilm says that data are no MP4, or hold no film.
var ErrNoFilm = errors.New("no whole MP4 film")

var errCut = fmt.Errorf("%w: a part of it is missing", ErrNoFilm)

// A Film is what a file says of its film. Length is 0 when it doesn't say.
type Film struct {
	Width, Height int // as shown, turned as the film wants it
	Length        time.Duration
}

// Is reports whether a file starts as an MP4 does.
func Is(start []byte) bool { return len(start) >= 12 && string(start[4:8]) == "ftyp" }

// mostIndex is the largest index of a film that is read, in bytes.
const mostIndex = 32 << 20

// Read reads a film's index, wherever it stands in the file, and goes through to the file's end. What is no film, or is cut off, is an
// ErrNoFilm.
func Read(r io.ReadSeeker) (f Film, err error) {
	whole, err := r.Seek(0, io.SeekEnd)
	if err != nil {
		return Film{}, err
	}
	for at := int64(0); at < whole; {
		if _, err := r.Seek(at, io.SeekStart); err != nil {
			return Film{}, err
		}
		var head [16]byte
		n, err := io.ReadFull(r, head[:])
		if err != nil && !errors.Is(err, io.ErrUnexpectedEOF) {
			return Film{}, err
		}
		if n < 8 {
			return Film{}, errCut
		}
		size, begins := int64(binary.BigEndian.Uint32(head[:])), int64(8)
		if size == 1 && n == 16 {
			size, begins = int64(binary.BigEndian.Uint64(head[8:])), 16
		}
		if size == 0 { // it reaches to the end of the file
			size = whole - at
		}
		if size < begins || size > whole-at {
			return Film{}, errCut
		}
		if string(head[4:8]) == "moov" {
			if f, err = readIndex(r, at+begins, size-begins); err != nil {
				return Film{}, err
			}
		}
		at += size
	}
	if f.Width == 0 {
		return Film{}, fmt.Errorf("%w: it has no index", ErrNoFilm)
	}
	return f, nil
}

func readIndex(r io.ReadSeeker, at, size int64) (Film, error) {
	if size < 0 || size > mostIndex {
		return Film{}, fmt.Errorf("%w: its index has %d bytes", ErrNoFilm, size)
	}
	if _, err := r.Seek(at, io.SeekStart); err != nil {
		return Film{}, err
	}
	index := make([]byte, size)
	if _, err := io.ReadFull(r, index); err != nil {
		return Film{}, fmt.Errorf("%w: a part of its index is missing", ErrNoFilm)
	}
	var f Film
	for _, track := range boxes(index, "trak") {
		if w, h := shown(box(track, "tkhd")); w > 0 && h > 0 {
			f.Width, f.Height = w, h
			break
		}
	}
	if f.Width == 0 {
		return Film{}, fmt.Errorf("%w: it has no picture", ErrNoFilm)
	}
	scale, length := times(box(index, "mvhd"))
	if length == 0 { // written in fragments (8.8.2)
		if b := box(box(index, "mvex"), "mehd"); len(b) >= 12 && b[0] == 1 {
			length = binary.BigEndian.Uint64(b[4:])
		} else if len(b) >= 8 {
			length = uint64(binary.BigEndian.Uint32(b[4:]))
		}
	}
	if seconds := float64(length) / float64(max(scale, 1)); scale > 0 && seconds < 1e6 {
		f.Length = time.Duration(seconds * float64(time.Second))
	}
	return f, nil
}

// boxes are the contents of the boxes of a kind (4.2).
func boxes(data []byte, kind string) (list [][]byte) {
	for len(data) >= 8 {
		size, begins := uint64(binary.BigEndian.Uint32(data)), uint64(8)
		if size == 1 && len(data) >= 16 {
			size, begins = binary.BigEndian.Uint64(data[8:]), 16
		}
		if size == 0 {
			size = uint64(len(data))
		}
		if size < begins || size > uint64(len(data)) {
			return list
		}
		if string(data[4:8]) == kind {
			list = append(list, data[begins:size])
		}
		data = data[size:]
	}
	return list
}

func box(data []byte, kind string) []byte {
	if list := boxes(data, kind); len(list) > 0 {
		return list[0]
	}
	return nil
}

// times are the units a second and the length in them, of a movie header (8.2.2).
func times(b []byte) (scale uint32, length uint64) {
	switch {
	case len(b) >= 32 && b[0] == 1:
		return binary.BigEndian.Uint32(b[20:]), binary.BigEndian.Uint64(b[24:])
	case len(b) >= 20 && b[0] == 0:
		return binary.BigEndian.Uint32(b[12:]), uint64(binary.BigEndian.Uint32(b[16:]))
	}
	return 0, 0
}

// shown is the size of a track header (8.3.2): the last two of its numbers, behind the matrix that turns the picture.
func shown(b []byte) (w, h int) {
	const matrix, size = 36, 8
	if len(b) < 84 || b[0] == 1 && len(b) < 96 {
		return 0, 0
	}
	b = b[len(b)-matrix-size:]
	w, h = int(binary.BigEndian.Uint16(b[matrix:])), int(binary.BigEndian.Uint16(b[matrix+4:]))
	if a, turned := binary.BigEndian.Uint32(b), binary.BigEndian.Uint32(b[4:]); a == 0 && turned != 0 {
		return h, w
	}
	return w, h
}
