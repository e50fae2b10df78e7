package slim

import (
	"bytes"
	"encoding/binary"
)

// jpeg leaves out texts and the camera's notes, by the segments of ITU-T T.81 annex B. A picture that is to be turned
// stays as it is; so do colour profiles.
func jpeg(data []byte) []byte {
	out := append([]byte(nil), data[:2]...)
	for at := 2; at+4 <= len(data); {
		marker := data[at+1]
		if data[at] != 0xff || marker < 0xc0 || marker >= 0xd0 && marker <= 0xd9 {
			return nil
		}
		if marker == 0xda { // the picture itself
			return append(out, data[at:]...)
		}
		end := at + 2 + int(binary.BigEndian.Uint16(data[at+2:]))
		if end > len(data) || end < at+4 {
			return nil
		}
		segment := data[at:end]
		switch {
		case marker == 0xe1 && bytes.HasPrefix(segment[4:], []byte("Exif\x00\x00")) && turned(segment[10:]):
			return nil
		case marker == 0xe1 || marker == 0xed || marker == 0xfe: // Exif and XMP; an editor's notes; a comment
		default:
			out = append(out, segment...)
		}
		at = end
	}
	return nil
}

// turned reports whether Exif data (a TIFF file) says that a picture is shown in another orientation than it has, or can't
// be read.
func turned(tiff []byte) bool {
	if len(tiff) < 8 {
		return true
	}
	var order binary.ByteOrder = binary.LittleEndian
	if tiff[0] == 'M' {
		order = binary.BigEndian
	}
	at := int(order.Uint32(tiff[4:]))
	if at < 8 || at+2 > len(tiff) {
		return true
	}
	for i := range int(order.Uint16(tiff[at:])) {
		entry := at + 2 + 12*i
		if entry+12 > len(tiff) {
			return true
		}
		if order.Uint16(tiff[entry:]) == 0x0112 {
			return order.Uint16(tiff[entry+8:]) != 1
		}
	}
	return false
}

// riff copies a RIFF file without some of its chunks; nil when it is not whole.
func riff(data []byte, without ...string) []byte {
	if len(data) < 12 || string(data[:4]) != "RIFF" {
		return nil
	}
	out := append([]byte(nil), data[:12]...)
	for at := 12; at < len(data); {
		if at+8 > len(data) {
			return nil
		}
		size := int(binary.LittleEndian.Uint32(data[at+4:]))
		end := at + 8 + size + size%2
		if size < 0 || at+8+size > len(data) || end < at {
			return nil
		}
		end = min(end, len(data))
		keep := true
		for _, w := range without {
			keep = keep && string(data[at:at+4]) != w
		}
		if keep {
			out = append(out, data[at:end]...)
		}
		at = end
	}
	binary.LittleEndian.PutUint32(out[4:], uint32(len(out)-8))
	return out
}

func webp(data []byte) []byte {
	if bytes.Contains(data[:min(len(data), 64<<10)], []byte("EXIF")) || len(data) < 21 {
		return nil // it may say that the picture is to be turned
	}
	out := riff(data, "XMP ")
	if len(out) > 20 && string(out[12:16]) == "VP8X" {
		out[20] &^= 1 << 2 // the flag that says that there is XMP data
	}
	return out
}

// wav keeps what the sound needs, and loops.
func wav(data []byte) []byte {
	return riff(data, "LIST", "bext", "iXML", "id3 ", "ID3 ", "_PMX", "JUNK", "PAD ")
}

// mp3 leaves out the tag before the sound (ID3v2) and the one after it (ID3v1).
func mp3(data []byte) []byte {
	if len(data) < 10 {
		return nil
	}
	size := int(data[6])<<21 | int(data[7])<<14 | int(data[8])<<7 | int(data[9])
	at := 10 + size
	if data[5]&0x10 != 0 {
		at += 10
	}
	if (data[6]|data[7]|data[8]|data[9])&0x80 != 0 || at+2 > len(data) || data[at] != 0xff || data[at+1]&0xe0 != 0xe0 {
		return nil // no sound where it should begin
	}
	sound := data[at:]
	if n := len(sound) - 128; n > 0 && bytes.HasPrefix(sound[n:], []byte("TAG")) {
		sound = sound[:n]
	}
	return sound
}

// flac leaves out texts, pictures and room for more of them (RFC 9639 section 8).
func flac(data []byte) []byte {
	out := append([]byte(nil), data[:4]...)
	last := -1
	for at := 4; at+4 <= len(data); {
		kind := data[at] & 0x7f
		end := at + 4 + int(data[at+1])<<16 + int(data[at+2])<<8 + int(data[at+3])
		if end > len(data) {
			return nil
		}
		if kind != 1 && kind != 4 && kind != 6 {
			last = len(out)
			out = append(out, data[at:end]...)
			out[last] &^= 0x80
		}
		if data[at]&0x80 != 0 {
			if last < 0 {
				return nil
			}
			out[last] |= 0x80
			return append(out, data[end:]...)
		}
		at = end
	}
	return nil
}
