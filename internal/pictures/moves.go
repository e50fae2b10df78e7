package pictures

import (
	"bufio"
	"io"
)

// moves reports whether a GIF has more than one picture (GIF89a, section 20), looped or not.
func moves(f io.ReadSeeker) bool {
	if _, err := f.Seek(0, io.SeekStart); err != nil {
		return false
	}
	r := gifReader{bufio.NewReaderSize(f, 64<<10)}
	head := make([]byte, 13)
	if _, err := io.ReadFull(r, head); err != nil || !r.skip(tableOf(head[10])) {
		return false
	}
	for seen := 0; ; {
		kind, err := r.ReadByte()
		switch {
		case err != nil:
			return false
		case kind == '!': // an extension
			if !r.skip(1) || !r.blocks() {
				return false
			}
		case kind == ',':
			if seen++; seen > 1 {
				return true
			}
			if _, err := io.ReadFull(r, head[:9]); err != nil || !r.skip(tableOf(head[8])+1) || !r.blocks() {
				return false
			}
		default:
			return false
		}
	}
}

type gifReader struct{ *bufio.Reader }

func (r gifReader) skip(n int) bool {
	_, err := r.Discard(n)
	return err == nil
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
