// Package media says what pictures and sounds are and what they take in memory once they are decoded, from their
// headers alone. It decodes nothing, and needs only a file's beginning and end.
package media

import (
	"bytes"
	"encoding/binary"
	"time"
)

// An Info is what a picture or sound says of itself.
type Info struct {
	Format        string // as people call it: PNG, JPEG, WebP, GIF, AVIF, BMP, WAV, Ogg, MP3, MP4, FLAC
	Width, Height int    // of a picture, in pixels
	Frames        int    // of a moving picture; 1 for a still one
	Length        time.Duration
	Channels      int
	Rate          int // samples a second
}

// HeadSize and TailSize are how much of a file's beginning and end Read wants, in bytes.
const (
	HeadSize = 64 << 10
	TailSize = 64 << 10
)

// Decoded is what a picture takes on the graphics card (four bytes a pixel), or a sound as samples of four bytes, as
// browsers keep them once decoded whole. It is 0 when that is not known.
func (i *Info) Decoded() int64 {
	if i.Width > 0 {
		return 4 * int64(i.Width) * int64(i.Height)
	}
	return int64(i.Length.Seconds() * float64(i.Rate) * float64(i.Channels) * 4)
}

// Picture reports whether it is a picture, and not a sound.
func (i *Info) Picture() bool { return i.Width > 0 }

// formats are tried in turn; each returns nil when the bytes are not of its format.
var formats = []func(f *file) *Info{png, gif, jpeg, webp, avif, bmp, wav, ogg, flac, mp4, mp3}

type file struct {
	head, tail []byte
	size       int64
}

// Read says what a file of that size is, from its first HeadSize and last TailSize bytes (or all of them, when there
// are fewer). It is nil when they are no picture or sound that it knows.
func Read(head, tail []byte, size int64) *Info {
	f := &file{head, tail, size}
	for _, format := range formats {
		if i := format(f); i != nil {
			i.Frames = max(i.Frames, 1)
			return i
		}
	}
	return nil
}

func (f *file) begins(with string) bool { return bytes.HasPrefix(f.head, []byte(with)) }

// at returns n bytes of the head, or nil when it is too short.
func (f *file) at(offset, n int) []byte {
	if offset < 0 || offset+n > len(f.head) {
		return nil
	}
	return f.head[offset : offset+n]
}

func (f *file) be16(offset int) int { return number(f.at(offset, 2), binary.BigEndian.Uint16) }
func (f *file) le16(offset int) int { return number(f.at(offset, 2), binary.LittleEndian.Uint16) }
func (f *file) be32(offset int) int { return number(f.at(offset, 4), binary.BigEndian.Uint32) }
func (f *file) le32(offset int) int { return number(f.at(offset, 4), binary.LittleEndian.Uint32) }

// number reads a number, or 0 where the file ends before it.
func number[N uint16 | uint32](b []byte, read func([]byte) N) int {
	if b == nil {
		return 0
	}
	return int(read(b))
}

// seconds is a length in samples at a rate, as a time; 0 when there is no rate, or the header is plainly wrong.
func seconds(samples int64, rate int) time.Duration {
	const longest = 100 * 3600
	if rate <= 0 || samples < 0 || float64(samples)/float64(rate) > longest {
		return 0
	}
	return time.Duration(float64(samples) / float64(rate) * float64(time.Second))
}
