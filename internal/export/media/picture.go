package media

import "bytes"

// PNG: ISO/IEC 15948, the header chunk comes first. Moving ones have a chunk that counts frames.
func png(f *file) *Info {
	if !f.begins("\x89PNG\r\n\x1a\n") {
		return nil
	}
	i := &Info{Format: "PNG", Width: f.be32(16), Height: f.be32(20)}
	if at := bytes.Index(f.head[:min(len(f.head), 1024)], []byte("acTL")); at > 0 {
		i.Frames = f.be32(at + 4)
	}
	return i
}

// GIF: the logical screen's size; each frame begins with a graphic control block.
func gif(f *file) *Info {
	if !f.begins("GIF87a") && !f.begins("GIF89a") {
		return nil
	}
	return &Info{Format: "GIF", Width: f.le16(6), Height: f.le16(8), Frames: bytes.Count(f.head, []byte("\x21\xf9\x04"))}
}

// JPEG: ITU-T T.81, the size is in the frame header, after any number of other segments.
func jpeg(f *file) *Info {
	if !f.begins("\xff\xd8\xff") {
		return nil
	}
	i := &Info{Format: "JPEG"}
	for at := 2; at+9 < len(f.head) && f.head[at] == 0xff; {
		marker := f.head[at+1]
		if marker == 0xff {
			at++
			continue
		}
		if marker >= 0xc0 && marker <= 0xcf && marker != 0xc4 && marker != 0xc8 && marker != 0xcc {
			i.Height, i.Width = f.be16(at+5), f.be16(at+7)
			break
		}
		at += 2 + max(2, f.be16(at+2))
	}
	return i
}

// WebP: RFC 9649.
func webp(f *file) *Info {
	if !f.begins("RIFF") || string(f.at(8, 4)) != "WEBP" {
		return nil
	}
	i := &Info{Format: "WebP"}
	switch string(f.at(12, 4)) {
	case "VP8 ":
		i.Width, i.Height = f.le16(26)&0x3fff, f.le16(28)&0x3fff
	case "VP8L":
		bits := f.le32(21)
		i.Width, i.Height = bits&0x3fff+1, bits>>14&0x3fff+1
	case "VP8X":
		i.Width, i.Height = f.le32(24)&0xffffff+1, f.le32(27)&0xffffff+1
		i.Frames = bytes.Count(f.head, []byte("ANMF"))
	}
	return i
}

// AVIF: the size is in the first image spatial extents property (ISO/IEC 23008-12, section 6.5.3).
func avif(f *file) *Info {
	if string(f.at(4, 4)) != "ftyp" || !bytes.Contains(f.head[:min(len(f.head), 64)], []byte("avif")) {
		return nil
	}
	i := &Info{Format: "AVIF"}
	if at := bytes.Index(f.head, []byte("ispe")); at > 0 {
		i.Width, i.Height = f.be32(at+8), f.be32(at+12)
	}
	return i
}

func bmp(f *file) *Info {
	if !f.begins("BM") || f.le32(2) != int(f.size) {
		return nil
	}
	height := int(int32(f.le32(22)))
	return &Info{Format: "BMP", Width: f.le32(18), Height: max(height, -height)}
}
