package webm

import (
	"bytes"
	"encoding/binary"
	"errors"
	"testing"
)

// recorded is a film as a browser records it: sizes unknown, without cues or a length.
func recorded(clusters ...[]byte) []byte {
	unknown := func(id uint32, body []byte) []byte {
		return append(append(binary.BigEndian.AppendUint32(nil, id), 0x01, 0xff, 0xff, 0xff, 0xff, 0xff, 0xff, 0xff), body...)
	}
	size := with(idVideo, append(with(idWide, []byte{0x01, 0x40}), with(idHigh, []byte{0xb4})...))
	body := append(with(idInfo, with(idScale, []byte{0x0f, 0x42, 0x40})), with(idTracks, with(idTrack, size))...)
	for _, c := range clusters {
		body = append(body, unknown(idCluster, c)...)
	}
	return append(with(idHeader, []byte{0x42, 0x86, 0x81, 1}), unknown(idSegment, body)...)
}

func block(at int16, key bool, picture string) []byte {
	flags := byte(0)
	if key {
		flags = 0x80
	}
	return with(idBlock, append([]byte{0x81, byte(at >> 8), byte(at), flags}, picture...))
}

// TestSeekable: a recorded film gets its length and cues that point to its clusters, and keeps its pictures; a cut one loses only its end.
func TestSeekable(t *testing.T) {
	first := append(with(idTime, []byte{0}), append(block(0, true, "one"), block(500, false, "two")...)...)
	second := append(with(idTime, []byte{0x07, 0xd0}), append(block(0, true, "three"), block(40, false, "four")...)...)
	whole := recorded(first, second)
	for name, data := range map[string][]byte{"whole": whole, "cut": whole[:len(whole)-2]} {
		out, err := Seekable(data)
		if err != nil {
			t.Fatal(name, err)
		}
		if w, h := Size(out); w != 320 || h != 180 {
			t.Errorf("%s: %dx%d", name, w, h)
		}
		segment := find(out, idSegment)
		cues := find(segment, idCues)
		var at []uint64
		for {
			point, rest, ok := next(cues)
			if !ok {
				break
			}
			place := number(find(find(point.body, 0xb7), 0xf1))
			e, _, ok := next(segment[place:])
			if !ok || e.id != idCluster || number(find(e.body, idTime)) != number(find(point.body, 0xb3)) {
				t.Errorf("%s: a cue points to byte %d, where %x is", name, place, e.id)
			}
			at, cues = append(at, number(find(point.body, 0xb3))), rest
		}
		length := find(find(segment, idInfo), idDuration)
		if len(at) != 2 || at[1] != 2000 || len(length) != 8 {
			t.Errorf("%s: cues at %v, length %x", name, at, length)
		}
		if !bytes.Contains(out, []byte("three")) || bytes.Contains(out, []byte("four")) != (name == "whole") {
			t.Errorf("%s: the pictures are not those that were recorded", name)
		}
		again, err := Seekable(out)
		if err != nil || !bytes.Equal(again, out) {
			t.Errorf("%s: a film that has all is changed: %v", name, err)
		}
	}
	for _, bad := range [][]byte{nil, []byte("GIF89a"), recorded(), whole[:20]} {
		if _, err := Seekable(bad); !errors.Is(err, ErrNoFilm) {
			t.Errorf("%.10x: %v", bad, err)
		}
	}
}

// FuzzSeekable reads films that somebody else sent.
func FuzzSeekable(f *testing.F) {
	f.Add(recorded(append(with(idTime, []byte{0}), block(0, true, "one")...)))
	f.Fuzz(func(t *testing.T, data []byte) {
		Size(data)
		out, err := Seekable(data)
		if err == nil && len(out) > 4*len(data)+4096 {
			t.Errorf("%d bytes became %d", len(data), len(out))
		}
	})
}

// TestWrite: a written film begins at its first picture, has one cluster and one cue for each key, and all pictures.
func TestWrite(t *testing.T) {
	pictures := []Picture{
		{100, true, []byte("one")},
		{140, false, []byte("two")},
		{2200, true, []byte("three")},
		{2240, false, []byte("four")},
	}
	out, err := Write("V_VP9", 320, 180, pictures)
	if err != nil {
		t.Fatal(err)
	}
	if w, h := Size(out); w != 320 || h != 180 {
		t.Errorf("%dx%d", w, h)
	}
	segment := find(out, idSegment)
	first := find(segment, idCluster)
	if b := find(first, idBlock); number(find(first, idTime)) != 0 || !bytes.Equal(b, []byte("\x81\x00\x00\x80one")) {
		t.Errorf("the first picture is %q", b)
	}
	if point := find(find(segment, idCues)[27:], 0xbb); number(find(point, 0xb3)) != 2100 {
		t.Errorf("the second cue is %x", point)
	}
	again, err := Seekable(out)
	if err != nil || !bytes.Equal(again, out) {
		t.Errorf("what is written whole is changed: %v", err)
	}
	for name, bad := range map[string][]Picture{"none": nil, "no key": pictures[1:], "order": {pictures[2], pictures[0]}} {
		if _, err := Write("V_VP9", 320, 180, bad); !errors.Is(err, ErrNoFilm) {
			t.Errorf("%s: %v", name, err)
		}
	}
}
