package media

import (
	"bytes"
	"encoding/binary"
)

// WAV: chunks of a RIFF file; the format chunk and the length of the data chunk.
func wav(f *file) *Info {
	if !f.begins("RIFF") || string(f.at(8, 4)) != "WAVE" {
		return nil
	}
	i := &Info{Format: "WAV"}
	perSecond := 0
	for at := 12; at+8 <= len(f.head); {
		size := f.le32(at + 4)
		switch string(f.at(at, 4)) {
		case "fmt ":
			i.Channels, i.Rate, perSecond = f.le16(at+10), f.le32(at+12), f.le32(at+16)
		case "data":
			i.Length = seconds(min(int64(size), f.size-int64(at)-8), perSecond)
			return i
		}
		at += 8 + size + size&1
	}
	return i
}

// Ogg: RFC 3533; Vorbis and Opus (RFC 7845) headers come first, and the last page says how many samples there were.
func ogg(f *file) *Info {
	if !f.begins("OggS") {
		return nil
	}
	i := &Info{Format: "Ogg"}
	granule := i.Rate
	if at := bytes.Index(f.head, []byte("\x01vorbis")); at >= 0 && f.at(at+11, 5) != nil {
		i.Channels, i.Rate = int(f.head[at+11]), f.le32(at+12)
		granule = i.Rate
	} else if at := bytes.Index(f.head, []byte("OpusHead")); at >= 0 && f.at(at+9, 1) != nil {
		i.Channels, i.Rate, granule = int(f.head[at+9]), 48000, 48000
	}
	if at := bytes.LastIndex(f.tail, []byte("OggS")); at >= 0 && at+14 <= len(f.tail) {
		i.Length = seconds(int64(binary.LittleEndian.Uint64(f.tail[at+6:])), granule)
	}
	return i
}

// FLAC: RFC 9639, section 8.2: the stream information comes first.
func flac(f *file) *Info {
	if !f.begins("fLaC") {
		return nil
	}
	i := &Info{Format: "FLAC"}
	if b := f.at(18, 8); b != nil {
		v := binary.BigEndian.Uint64(b)
		i.Rate, i.Channels = int(v>>44), int(v>>41&7)+1
		i.Length = seconds(int64(v&(1<<36-1)), i.Rate)
	}
	return i
}

// MP4: ISO/IEC 14496-12; the movie header, at the beginning or at the end, says how long it is.
func mp4(f *file) *Info {
	if string(f.at(4, 4)) != "ftyp" {
		return nil
	}
	i := &Info{Format: "MP4", Channels: 2, Rate: 48000}
	for _, part := range [][]byte{f.head, f.tail} {
		at := bytes.Index(part, []byte("mvhd"))
		if at < 0 || at+32 > len(part) {
			continue
		}
		if part[at+4] == 0 {
			i.Length = seconds(int64(binary.BigEndian.Uint32(part[at+20:])), int(binary.BigEndian.Uint32(part[at+16:])))
		} else if at+36 <= len(part) {
			i.Length = seconds(int64(binary.BigEndian.Uint64(part[at+28:])), int(binary.BigEndian.Uint32(part[at+24:])))
		}
		break
	}
	return i
}

// Bit rates of layer III, in kilobits a second, by version (ISO/IEC 11172-3 and 13818-3).
var (
	mp3Rates1 = []int{0, 32, 40, 48, 56, 64, 80, 96, 112, 128, 160, 192, 224, 256, 320}
	mp3Rates2 = []int{0, 8, 16, 24, 32, 40, 48, 56, 64, 80, 96, 112, 128, 144, 160}
)

// MP3: after tags, the first frame's header; a count of frames in it where the encoder left one, else the bit rate.
func mp3(f *file) *Info {
	at := 0
	if f.begins("ID3") && f.at(0, 10) != nil {
		at = 10 + int(f.head[6]&0x7f)<<21 + int(f.head[7]&0x7f)<<14 + int(f.head[8]&0x7f)<<7 + int(f.head[9]&0x7f)
		if f.at(at, 4) == nil {
			return &Info{Format: "MP3", Channels: 2, Rate: 44100, Length: seconds((f.size-int64(at))*8, 128_000)}
		}
	}
	b := f.at(at, 4)
	if b == nil || !isFrame(b) {
		return nil
	}
	i := &Info{Format: "MP3", Channels: 2}
	if b[3]>>6 == 3 {
		i.Channels = 1
	}
	i.Rate = []int{44100, 48000, 32000}[b[2]>>2&3]
	bitrate, samples := mp3Rates1[b[2]>>4], 1152
	if b[1]>>3&3 != 3 { // a later version, at half the rate or less
		i.Rate /= 2
		if b[1]>>3&3 == 0 {
			i.Rate /= 2
		}
		bitrate, samples = mp3Rates2[b[2]>>4], 576
	}
	i.Length = seconds((f.size-int64(at))*8, bitrate*1000)
	first := f.head[at:min(len(f.head), at+200)]
	for _, mark := range []string{"Xing", "Info"} {
		if x := bytes.Index(first, []byte(mark)); x >= 0 && x+12 <= len(first) && first[x+7]&1 != 0 {
			i.Length = seconds(int64(binary.BigEndian.Uint32(first[x+8:]))*int64(samples), i.Rate)
		}
	}
	return i
}

// isFrame reports whether four bytes begin a frame of MP3, with rates that there are.
func isFrame(b []byte) bool {
	return b[0] == 0xff && b[1]&0xe6 == 0xe2 && b[2]>>4 != 0 && b[2]>>4 != 15 && b[2]>>2&3 != 3
}
