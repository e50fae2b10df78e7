package media

import (
	"bytes"
	"encoding/binary"
	"image"
	"image/color/palette"
	imagegif "image/gif"
	imagejpeg "image/jpeg"
	imagepng "image/png"
	"strings"
	"testing"
	"time"

	imagebmp "golang.org/x/image/bmp"
)

func read(data string) *Info {
	return Read([]byte(data[:min(len(data), HeadSize)]), []byte(data[max(0, len(data)-TailSize):]), int64(len(data)))
}

// TestPictures reads what real encoders write.
func TestPictures(t *testing.T) {
	m := image.NewPaletted(image.Rect(0, 0, 321, 45), palette.Plan9)
	for name, encode := range map[string]func(*bytes.Buffer) error{
		"PNG":  func(b *bytes.Buffer) error { return imagepng.Encode(b, m) },
		"JPEG": func(b *bytes.Buffer) error { return imagejpeg.Encode(b, m, nil) },
		"BMP":  func(b *bytes.Buffer) error { return imagebmp.Encode(b, m) },
		"GIF": func(b *bytes.Buffer) error {
			return imagegif.EncodeAll(b, &imagegif.GIF{Image: []*image.Paletted{m, m, m}, Delay: []int{5, 5, 5}})
		},
	} {
		var b bytes.Buffer
		if err := encode(&b); err != nil {
			t.Fatal(err)
		}
		i := read(b.String())
		if i == nil || i.Format != name || i.Width != 321 || i.Height != 45 || i.Decoded() != 4*321*45 || name == "GIF" && i.Frames != 3 {
			t.Errorf("%s: %+v", name, i)
		}
	}
}

// TestHeaders reads headers written down from the formats' specifications.
func TestHeaders(t *testing.T) {
	le32 := func(n uint32) string { return string(binary.LittleEndian.AppendUint32(nil, n)) }
	for name, c := range map[string]struct {
		data string
		want Info
	}{
		"WebP lossy": {"RIFF\x00\x00\x00\x00WEBPVP8 \x00\x00\x00\x00\x00\x00\x00\x9d\x01\x2a\x40\x01\xf0\x00",
			Info{Format: "WebP", Width: 320, Height: 240}},
		"WebP lossless": {"RIFF\x00\x00\x00\x00WEBPVP8L\x00\x00\x00\x00\x2f" + le32(319|239<<14), Info{Format: "WebP", Width: 320, Height: 240}},
		"WebP extended": {"RIFF\x00\x00\x00\x00WEBPVP8X\x0a\x00\x00\x00\x00\x00\x00\x00\x3f\x01\x00\xef\x00\x00\x00",
			Info{Format: "WebP", Width: 320, Height: 240}},
		"AVIF": {"\x00\x00\x00\x1cftypavif\x00\x00\x00\x00mif1\x00\x00\x00\x14ispe\x00\x00\x00\x00\x00\x00\x01\x40\x00\x00\x00\xf0",
			Info{Format: "AVIF", Width: 320, Height: 240}},
		"WAV": {"RIFF\x00\x00\x00\x00WAVEfmt \x10\x00\x00\x00\x01\x00\x02\x00" + le32(44100) + le32(176400) +
			"\x04\x00\x10\x00data" + le32(352800) + strings.Repeat("\x00", 352800),
			Info{Format: "WAV", Length: 2 * time.Second, Channels: 2, Rate: 44100}},
		"Vorbis": {"OggS\x00\x02" + strings.Repeat("\x00", 22) + "\x01vorbis\x00\x00\x00\x00\x02" + le32(44100) + "OggS\x00\x04" +
			le32(88200) + "\x00\x00\x00\x00", Info{Format: "Ogg", Length: 2 * time.Second, Channels: 2, Rate: 44100}},
		"Opus": {"OggS\x00\x02" + strings.Repeat("\x00", 22) + "OpusHead\x01\x01\x00\x00OggS\x00\x04" + le32(96000) +
			"\x00\x00\x00\x00", Info{Format: "Ogg", Length: 2 * time.Second, Channels: 1, Rate: 48000}},
		"FLAC": {"fLaC\x00\x00\x00\x22" + strings.Repeat("\x00", 10) + "\x0a\xc4\x42\xf0\x00\x01\x58\x88",
			Info{Format: "FLAC", Length: 2 * time.Second, Channels: 2, Rate: 44100}},
		"MP4": {"\x00\x00\x00\x18ftypM4A ....moov\x00\x00\x00\x6cmvhd\x00\x00\x00\x00" + strings.Repeat("\x00", 8) +
			"\x00\x00\x03\xe8\x00\x00\x07\xd0" + strings.Repeat("\x00", 16), Info{Format: "MP4", Length: 2 * time.Second, Channels: 2, Rate: 48000}},
		"MP3": {"\xff\xfb\x90\x00" + strings.Repeat("\x00", 31996),
			Info{Format: "MP3", Length: 2 * time.Second, Channels: 2, Rate: 44100}},
		"MP3, counted": {"ID3\x03\x00\x00\x00\x00\x00\x02..\xff\xfb\x90\xc0" + strings.Repeat("\x00", 17) +
			"Xing\x00\x00\x00\x01\x00\x00\x00\x64" + strings.Repeat("\x00", 100), Info{Format: "MP3", Length: 2612244897, Channels: 1, Rate: 44100}},
	} {
		i := read(c.data)
		if i == nil {
			t.Errorf("%s: not known", name)
			continue
		}
		c.want.Frames = 1
		if *i != c.want {
			t.Errorf("%s:\n got %+v\nwant %+v", name, *i, c.want)
		}
	}
	for name, data := range map[string]string{"text": "hello", "empty": "", "BM as text": "BMore words", "cut PNG": "\x89PN"} {
		if i := read(data); i != nil {
			t.Errorf("%s: %+v", name, i)
		}
	}
}

func FuzzRead(f *testing.F) {
	for _, s := range []string{"\x89PNG\r\n\x1a\n", "\xff\xd8\xff\xc0", "RIFF\x00\x00\x00\x00WAVEfmt ", "OggS", "fLaC", "ID3\x03",
		"\x00\x00\x00\x18ftypM4A mvhd", "RIFF\x00\x00\x00\x00WEBPVP8X"} {
		f.Add([]byte(s), []byte(s))
	}
	f.Fuzz(func(t *testing.T, head, tail []byte) {
		if i := Read(head, tail, int64(len(head)+len(tail))); i != nil && (i.Width < 0 || i.Height < 0 || i.Length < 0) {
			t.Fatalf("%+v", i)
		}
	})
}
