package slim

import (
	"bytes"
	"encoding/binary"
	"hash/adler32"
	"hash/crc32"
	"image"
	"image/color"
	stdpng "image/png"
	"io"
	"slices"

	"github.com/klauspost/compress/zlib"

	"havvel/internal/pack/deflate"
)

// The PNG specification (ISO/IEC 15948) is followed by section.

const (
	pngSignature = "\x89PNG\r\n\x1a\n"
	mostPixels   = 64 << 20 // bytes of rows that are held, unpacked
)

// chunk is one chunk, section 5.3.
type chunk struct {
	kind string
	data []byte
}

// png packs the rows again, with the filter that suits each best, and leaves out what no browser shows: times, texts and
// sizes on paper. Colour profiles stay. The pixels are compared after.
func png(data []byte) []byte { return effort(false).png(data) }

// PNG returns a PNG that shows the same pixels in as few bytes as can be, for some times as much work as Content takes, or data itself.
func PNG(data []byte) []byte {
	if small := effort(true).png(data); len(small) > 0 && len(small) < len(data) {
		return small
	}
	return data
}

func (e effort) png(data []byte) []byte {
	chunks := chunksOf(data)
	if chunks == nil || len(chunks[0].data) != 13 {
		return nil
	}
	p := rasterOf(chunks)
	if p == nil {
		return nil
	}
	best := form{bits: p.head[8], kind: p.head[9]}
	packed, lines := e.smallest(p.rows, p.row, p.step, best.kind == paletteKind || best.bits < 8)
	if best.bits == 8 && !slices.ContainsFunc(chunks, tied) {
		for _, f := range reduced(p.rows, p.row, p.width, best.kind) {
			other, more := e.smallest(f.rows, f.row, f.step, f.kind == paletteKind)
			if len(other)+len(f.palette)+len(f.alpha) < len(packed)+len(best.palette)+len(best.alpha) {
				best, packed, lines = f, other, more
			}
		}
	}
	if e {
		packed = effort(false).deflated(lines)
		if len(lines) < flat*len(packed) {
			packed = thorough(lines)
		}
	}
	out := again(chunks, best, packed)
	if !samePixels(data, out) {
		return nil
	}
	return out
}

// A raster is a picture without its compression.
type raster struct {
	head       []byte // of IHDR
	width, row int    // in pixels; in bytes
	step       int    // bytes of a pixel, one at least
	rows       []byte
}

// rasterOf opens a picture; nil for one that is put together in another way, damaged or too large.
func rasterOf(chunks []chunk) *raster {
	h := chunks[0].data
	width, height := int(binary.BigEndian.Uint32(h)), int(binary.BigEndian.Uint32(h[4:]))
	samples := map[byte]int{0: 1, 2: 3, 3: 1, 4: 2, 6: 4}[h[9]]
	if samples == 0 || h[12] != 0 || width <= 0 || height <= 0 || width > 1<<20 || height > 1<<20 {
		return nil // interlaced pictures are rare, and their rows are put together in another way
	}
	bits := samples * int(h[8])
	p := &raster{head: h, width: width, row: (width*bits + 7) / 8, step: max(1, bits/8)}
	if (p.row+1)*height > mostPixels {
		return nil
	}
	var packed []byte
	for _, c := range chunks {
		switch c.kind {
		case "IDAT":
			packed = append(packed, c.data...)
		case "acTL", "fcTL", "fdAT", "eXIf":
			return nil // moving pictures, and ones that are to be turned
		}
	}
	p.rows = unpack(packed, (p.row+1)*height)
	if p.rows == nil || !unfilter(p.rows, p.row, p.step) {
		return nil
	}
	return p
}

// again puts a picture together in another form, without what only people and editors read.
func again(chunks []chunk, f form, packed []byte) []byte {
	var out bytes.Buffer
	out.WriteString(pngSignature)
	written := false
	for _, c := range chunks {
		switch c.kind {
		case "IHDR":
			head := append([]byte(nil), c.data...)
			head[8], head[9] = f.bits, f.kind
			writeChunk(&out, "IHDR", head)
		case "IDAT":
			if written {
				continue
			}
			written = true
			if f.palette != nil {
				writeChunk(&out, "PLTE", f.palette)
			}
			if f.alpha != nil {
				writeChunk(&out, "tRNS", f.alpha)
			}
			writeChunk(&out, "IDAT", packed)
		case "tEXt", "zTXt", "iTXt", "tIME", "pHYs", "bKGD", "hIST", "sPLT":
		default:
			writeChunk(&out, c.kind, c.data)
		}
	}
	return out.Bytes()
}

// tied reports whether a chunk belongs to the form that the pixels have.
func tied(c chunk) bool {
	switch c.kind {
	case "tRNS", "PLTE", "iCCP", "sBIT", "cICP":
		return true
	}
	return false
}

func chunksOf(data []byte) []chunk {
	var list []chunk
	for rest := data[len(pngSignature):]; len(rest) >= 12; {
		n := binary.BigEndian.Uint32(rest)
		if uint64(n)+12 > uint64(len(rest)) {
			return nil
		}
		c := chunk{string(rest[4:8]), rest[8 : 8+n]}
		list = append(list, c)
		rest = rest[12+n:]
		if c.kind == "IEND" {
			break
		}
	}
	if len(list) == 0 || list[0].kind != "IHDR" || list[len(list)-1].kind != "IEND" {
		return nil
	}
	return list
}

func writeChunk(out *bytes.Buffer, kind string, data []byte) {
	var n [4]byte
	binary.BigEndian.PutUint32(n[:], uint32(len(data)))
	out.Write(n[:])
	out.WriteString(kind)
	out.Write(data)
	binary.BigEndian.PutUint32(n[:], crc32.Update(crc32.ChecksumIEEE([]byte(kind)), crc32.IEEETable, data))
	out.Write(n[:])
}

// unpack returns the rows, each after its filter's number, section 10; nil when they are not whole.
func unpack(packed []byte, size int) []byte {
	z, err := zlib.NewReader(bytes.NewReader(packed))
	if err != nil {
		return nil
	}
	rows := make([]byte, size)
	if _, err := io.ReadFull(z, rows); err != nil {
		return nil
	}
	if n, err := z.Read(make([]byte, 1)); n > 0 || err != io.EOF {
		return nil // more than there should be, or a check sum that does not fit
	}
	return rows
}

// unfilter takes the filters away, section 9.2, and leaves the number 0 before each row.
func unfilter(rows []byte, row, step int) bool {
	before := make([]byte, row)
	for at := 0; at < len(rows); at += row + 1 {
		filter, line := rows[at], rows[at+1:at+1+row]
		if filter > 4 {
			return false
		}
		for i := range line {
			var left, corner byte
			if i >= step {
				left, corner = line[i-step], before[i-step]
			}
			line[i] += predicted(filter, left, before[i], corner)
		}
		rows[at], before = 0, line
	}
	return true
}

// predicted is what a filter expects, from the bytes left, above and at the corner.
func predicted(filter, left, up, corner byte) byte {
	switch filter {
	case 1:
		return left
	case 2:
		return up
	case 3:
		return byte((int(left) + int(up)) / 2)
	case 4:
		p := int(left) + int(up) - int(corner)
		l, u, c := abs(p-int(left)), abs(p-int(up)), abs(p-int(corner))
		switch {
		case l <= u && l <= c:
			return left
		case u <= c:
			return up
		}
		return corner
	}
	return 0
}

func abs(n int) int { return max(n, -n) }

// smallest packs rows with the filters that leave the least: one for all rows, or for each the one with the smallest differences. It
// returns them with these filters, too.
func (e effort) smallest(rows []byte, row, step int, indexed bool) (packed, best []byte) {
	best, packed = rows, e.deflated(rows)
	if indexed && len(packed) < 4<<10 && !bool(e) {
		return packed, best
	}
	ways := []byte{adaptive}
	if e {
		ways = []byte{adaptive, 1, 2, 3, 4}
	}
	for _, way := range ways {
		f := filtered(rows, row, step, way)
		if other := e.deflated(f); len(other) < len(packed) {
			best, packed = f, other
		}
	}
	return packed, best
}

// An effort is whether small is worth more than quick.
type effort bool

// adaptive chooses a filter for each row.
const adaptive = 5

// filtered are rows with a filter, from 1 to 4, or with that of each row that leaves the smallest differences.
func filtered(rows []byte, row, step int, way byte) []byte {
	out := make([]byte, 0, len(rows))
	before := make([]byte, row)
	var try [5][]byte
	for i := range try {
		try[i] = make([]byte, row)
	}
	for at := 0; at < len(rows); at += row + 1 {
		line := rows[at+1 : at+1+row]
		best, least := byte(0), 1<<62
		for filter := range byte(5) {
			if way != adaptive && filter != way {
				continue
			}
			sum := 0
			for i, v := range line {
				var left, corner byte
				if i >= step {
					left, corner = line[i-step], before[i-step]
				}
				d := v - predicted(filter, left, before[i], corner)
				try[filter][i] = d
				sum += abs(int(int8(d)))
			}
			if sum < least {
				best, least = filter, sum
			}
		}
		out = append(append(out, best), try[best]...)
		before = line
	}
	return out
}

// flat is by how many times a picture shrinks that has so little in it that looking for more takes long and gains nothing.
const flat = 50

// thorough packs data as small as can be (RFC 1950).
func thorough(data []byte) []byte {
	var b bytes.Buffer
	w := deflate.NewGzip(&b)
	_, err := w.Write(data)
	if err == nil {
		err = w.Close()
	}
	if err != nil {
		return effort(false).deflated(data)
	}
	const head, end = 10, 8 // of gzip, around the same stream
	out := append([]byte{0x78, 0xda}, b.Bytes()[head:b.Len()-end]...)
	return binary.BigEndian.AppendUint32(out, adler32.Checksum(data))
}

// deflated packs data; where small is worth more than quick, and there is much in it, only to compare.
func (e effort) deflated(data []byte) []byte {
	if e {
		if quick := packedAt(data, 4); len(data) < flat*len(quick) {
			return quick
		}
	}
	return packedAt(data, zlib.BestCompression)
}

func packedAt(data []byte, level int) []byte {
	var b bytes.Buffer
	z, err := zlib.NewWriterLevel(&b, level)
	if err != nil {
		panic(err) // the level is one
	}
	z.Write(data) // a buffer takes everything
	z.Close()
	return b.Bytes()
}

// samePixels compares two pictures as another reader sees them.
func samePixels(a, b []byte) bool {
	x, err := stdpng.Decode(bytes.NewReader(a))
	if err != nil {
		return false
	}
	y, err := stdpng.Decode(bytes.NewReader(b))
	if err != nil || x.Bounds() != y.Bounds() {
		return false
	}
	if x, ok := x.(*image.NRGBA); ok { // other models lose the colour of what is transparent
		if y, ok := y.(*image.NRGBA); ok {
			return bytes.Equal(x.Pix, y.Pix)
		}
		for j := x.Bounds().Min.Y; j < x.Bounds().Max.Y; j++ {
			for i := x.Bounds().Min.X; i < x.Bounds().Max.X; i++ {
				if c, ok := plainColour(y.At(i, j)); !ok || x.NRGBAAt(i, j) != c {
					return false
				}
			}
		}
		return true
	}
	for j := x.Bounds().Min.Y; j < x.Bounds().Max.Y; j++ {
		for i := x.Bounds().Min.X; i < x.Bounds().Max.X; i++ {
			if color.NRGBA64Model.Convert(x.At(i, j)) != color.NRGBA64Model.Convert(y.At(i, j)) {
				return false
			}
		}
	}
	return true
}

// plainColour is a colour of 8 bits a sample, exactly.
func plainColour(c color.Color) (color.NRGBA, bool) {
	switch c := c.(type) {
	case color.NRGBA:
		return c, true
	case color.RGBA:
		return color.NRGBA(c), c.A == 255
	case color.Gray:
		return color.NRGBA{c.Y, c.Y, c.Y, 255}, true
	}
	return color.NRGBA{}, false
}
