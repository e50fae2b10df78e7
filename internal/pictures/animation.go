package pictures

import (
	"bytes"
	"encoding/binary"
	"errors"
	"image"
	"image/draw"
	"io"

	"golang.org/x/image/webp"
)

// animatedWebP reports whether a file starts as an animated WebP does (RFC 9649, section 2.7).
func animatedWebP(start []byte) bool {
	return len(start) >= 30 && string(start[:4]) == "RIFF" && string(start[8:16]) == "WEBPVP8X" && start[20]&2 != 0
}

// canvasOf is the size of an extended WebP.
func canvasOf(start []byte) (w, h int) { return 1 + uint24(start[24:]), 1 + uint24(start[27:]) }

func uint24(b []byte) int { return int(b[0]) | int(b[1])<<8 | int(b[2])<<16 }

var errNoFrame = errors.New("it has no picture")

// firstWebP reads the first picture of an animated WebP: its frame is put into a file of its own, for the library to read.
func firstWebP(r io.Reader) (image.Image, error) {
	data, err := io.ReadAll(io.LimitReader(r, budget))
	if err != nil {
		return nil, err
	}
	w, h := canvasOf(data)
	for rest := data[12:]; len(rest) >= 8; {
		size := int64(binary.LittleEndian.Uint32(rest[4:]))
		name, body := string(rest[:4]), rest[8:]
		if size > int64(len(body)) {
			return nil, io.ErrUnexpectedEOF
		}
		rest = body[min(size+size&1, int64(len(body))):]
		if name != "ANMF" {
			continue
		}
		if body = body[:size]; len(body) < 16 {
			return nil, io.ErrUnexpectedEOF
		}
		x, y, fw, fh := 2*uint24(body), 2*uint24(body[3:]), 1+uint24(body[6:]), 1+uint24(body[9:])
		if x+fw > w || y+fh > h {
			return nil, errors.New("its first picture is larger than itself")
		}
		frame, err := webp.Decode(bytes.NewReader(alone(body[16:], fw, fh)))
		if err != nil || fw == w && fh == h {
			return frame, err
		}
		whole := image.NewNRGBA(image.Rect(0, 0, w, h))
		draw.Draw(whole, image.Rect(x, y, x+fw, y+fh), &master{Image: frame, studio: true}, image.Point{}, draw.Src)
		return whole, nil
	}
	return nil, errNoFrame
}

// alone is the data of a frame as a still WebP of that size.
func alone(chunks []byte, w, h int) []byte {
	var b bytes.Buffer
	b.WriteString("RIFF0000WEBP")
	if bytes.HasPrefix(chunks, []byte("ALPH")) {
		b.WriteString("VP8X\x0a\x00\x00\x00\x10\x00\x00\x00")
		for _, n := range []int{w - 1, h - 1} {
			b.Write([]byte{byte(n), byte(n >> 8), byte(n >> 16)})
		}
	}
	b.Write(chunks)
	binary.LittleEndian.PutUint32(b.Bytes()[4:], uint32(b.Len()-8))
	return b.Bytes()
}
