package pictures

import "math/bits"

// The elements of WebM (Matroska, RFC 9559) on the way to a film's size.
var (
	filmPath = []uint32{0x18538067, 0x1654ae6b, 0xae, 0xe0} // Segment, Tracks, TrackEntry, Video
	filmWide = uint32(0xb0)
	filmHigh = uint32(0xba)
)

// filmSize reads the width and height of a film from its first bytes; 0 when they don't say.
func filmSize(data []byte) (width, height int) {
	walk(data, filmPath, func(id uint32, body []byte) {
		v := 0
		for _, b := range body[:min(len(body), 4)] {
			v = v<<8 | int(b)
		}
		switch id {
		case filmWide:
			width = v
		case filmHigh:
			height = v
		}
	})
	return width, height
}

// walk goes through the elements in data, into those that path names, and tells of those at its end.
func walk(data []byte, path []uint32, found func(id uint32, body []byte)) {
	for len(data) > 1 {
		n := bits.LeadingZeros8(data[0]) + 1
		if n > 4 || len(data) < n+1 {
			return
		}
		id := uint32(0)
		for _, b := range data[:n] {
			id = id<<8 | uint32(b)
		}
		data = data[n:]
		m := bits.LeadingZeros8(data[0]) + 1
		if m > 8 || len(data) < m {
			return
		}
		size := uint64(data[0]) & (1<<(8-m) - 1)
		unknown := size == 1<<(8-m)-1
		for _, b := range data[1:m] {
			size, unknown = size<<8|uint64(b), unknown && b == 0xff
		}
		data = data[m:]
		body := data
		if !unknown && size < uint64(len(data)) {
			body = data[:size]
		}
		switch {
		case len(path) == 0:
			found(id, body)
		case id == path[0]:
			walk(body, path[1:], found)
		}
		data = data[len(body):]
	}
}
