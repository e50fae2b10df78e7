package webm

import (
	"encoding/binary"
	"fmt"
	"slices"
)

// A Picture is one encoded picture of a film.
type Picture struct {
	MS   int  // since the film's begin
	Key  bool // it needs no other
	Data []byte
}

// clusterMS is how much of a film goes into one cluster; a block's time within is written in 16 bits with a sign.
const clusterMS = 30_000

// Write puts pictures, in the order of their times, into a film without sound. codec is "V_VP8" or "V_VP9" (RFC 9559, section 5.1.4.1.21).
// The first picture must be a key; the film begins with it.
func Write(codec string, width, height int, pictures []Picture) ([]byte, error) {
	if len(pictures) == 0 || !pictures[0].Key {
		return nil, fmt.Errorf("%w: it begins with no picture that can be shown", ErrNoFilm)
	}
	var clusters []cluster
	begin, last := pictures[0].MS, 0
	for _, p := range pictures {
		at := p.MS - begin
		if at < last {
			return nil, fmt.Errorf("%w: its pictures are not in their order", ErrNoFilm)
		}
		last = at
		if p.Key || at-int(clusters[len(clusters)-1].time) >= clusterMS {
			clusters = append(clusters, cluster{time: uint64(at), key: p.Key})
		}
		c := &clusters[len(clusters)-1]
		head := binary.BigEndian.AppendUint16([]byte{0x81}, uint16(at-int(c.time)))
		flags := byte(0)
		if p.Key {
			flags = 0x80
		}
		c.blocks = append(c.blocks, with(idBlock, slices.Concat(head, []byte{flags}, p.Data))...)
		c.last = uint64(at)
	}
	header := with(idHeader, slices.Concat(
		fixed(0x4286, 1), fixed(0x42f7, 1), // the format's version, and what a reader must know
		fixed(0x42f2, 4), fixed(0x42f3, 8), // the longest id and size
		with(0x4282, []byte("webm")), fixed(0x4287, 4), fixed(0x4285, 2)))
	info := slices.Concat(fixed(idScale, 1_000_000), with(0x4d80, []byte("havvel")), with(0x5741, []byte("havvel")))
	track := with(idTrack, slices.Concat(
		fixed(0xd7, 1), fixed(0x73c5, 1), fixed(0x83, 1), fixed(0x9c, 0), // its number and id; it is of pictures, one in a block
		with(0x86, []byte(codec)),
		with(idVideo, slices.Concat(fixed(idWide, uint64(width)), fixed(idHigh, uint64(height))))))
	return slices.Concat(header, write(info, with(idTracks, track), clusters)), nil
}
