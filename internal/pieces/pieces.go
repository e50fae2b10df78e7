// Package pieces cuts contents where their own bytes say so, so that a change moves only the cuts around it. Pieces that two contents
// have in common need not travel twice.
package pieces

import (
	"bufio"
	"errors"
	"io"
	"math/bits"
)

// Cut reads to the end, and hands pieces over in order. They are of average bytes, a power of two from 256 on, and between a quarter and
// four times of that; only the last may be shorter. A piece is lent until each returns.
func Cut(r io.Reader, average int, each func(piece []byte) error) error {
	in := bufio.NewReaderSize(r, max(1<<20, 8*average))
	for {
		window, err := in.Peek(4 * average)
		if len(window) == 0 {
			if errors.Is(err, io.EOF) {
				return nil
			}
			return err
		}
		if err != nil && !errors.Is(err, io.EOF) {
			return err
		}
		n := first(window, average)
		if err := each(window[:n]); err != nil {
			return err
		}
		in.Discard(n) // it was peeked at
	}
}

// first is the length of the first piece of data. A cut is where a hash of the last 64 bytes has zeros in places; more of them are wanted
// before the average than after it, so that lengths stay near it.
func first(data []byte, average int) int {
	if len(data) <= average/4 {
		return len(data)
	}
	zeros := bits.TrailingZeros(uint(average))
	hard, easy := uint64(1)<<(zeros+1)-1, uint64(1)<<(zeros-1)-1
	var hash uint64
	middle := min(average, len(data))
	for i := average / 4; i < middle; i++ {
		if hash = hash>>1 + gear[data[i]]; hash&hard == 0 {
			return i + 1
		}
	}
	for i := middle; i < len(data); i++ {
		if hash = hash>>1 + gear[data[i]]; hash&easy == 0 {
			return i + 1
		}
	}
	return len(data)
}

// gear gives each byte a number without a pattern. It never changes: cuts of different times are compared.
var gear = func() (table [256]uint64) {
	seed := uint64(0x48617676656c)
	for i := range table { // SplitMix64
		seed += 0x9e3779b97f4a7c15
		z := seed
		z = (z ^ z>>30) * 0xbf58476d1ce4e5b9
		z = (z ^ z>>27) * 0x94d049bb133111eb
		table[i] = z ^ z>>31
	}
	return table
}()
