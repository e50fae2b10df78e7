package pictures

import (
	"bufio"
	"io"
	"time"
)

// moves reports whether a GIF has more than one picture (GIF89a, section 20), looped or not.
func moves(f io.ReadSeeker) bool {
	if _, err := f.Seek(0, io.SeekStart); err != nil {
		return false
	}
	n, _ := pictureTimes(f, 2)
	return n > 1
}

// pictureTimes counts the pictures of a GIF, and adds the times for which they are shown; it stops at so many.
func pictureTimes(f io.Reader, most int) (n int, length time.Duration) {
	r := gifReader{bufio.NewReaderSize(f, 64<<10)}
	head := make([]byte, 13)
	if _, err := io.ReadFull(r, head); err != nil || !r.skip(tableOf(head[10])) {
		return 0, 0
	}
	for {
		kind, err := r.ReadByte()
		switch {
		case err != nil:
			return n, length
		case kind == '!': // an extension
			length += r.delay()
			if !r.skip(1) || !r.blocks() {
				return n, length
			}
		case kind == ',':
			if n++; n >= most {
				return n, length
			}
			if _, err := io.ReadFull(r, head[:9]); err != nil || !r.skip(tableOf(head[8])+1) || !r.blocks() {
				return n, length
			}
		default:
			return n, length
		}
	}
}

type gifReader struct{ *bufio.Reader }

func (r gifReader) skip(n int) bool {
	_, err := r.Discard(n)
	return err == nil
}

// delay is the time that an extension says, if it is a graphic control: four bytes, of which the middle two are hundredths of a second
// (GIF89a, 23).
func (r gifReader) delay() time.Duration {
	control, err := r.Peek(5)
	if err != nil || control[0] != 0xf9 || control[1] != 4 {
		return 0
	}
	return time.Duration(int(control[3])|int(control[4])<<8) * 10 * time.Millisecond
}

// blocks skips those of an extension or a picture, up to the empty one.
func (r gifReader) blocks() bool {
	for {
		n, err := r.ReadByte()
		if err != nil || !r.skip(int(n)) {
			return false
		}
		if n == 0 {
			return true
		}
	}
}

// tableOf is the length of a table of colours, in bytes.
func tableOf(flags byte) int {
	if flags&0x80 == 0 {
		return 0
	}
	return 3 << (flags&7 + 1)
}
