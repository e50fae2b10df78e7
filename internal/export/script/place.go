package script

import "unsafe"

// offset is where a piece of the source stands in it. The parser keeps no positions, but what it keeps of a token is a slice of the
// source itself, so the distance between the two is its place. For a piece of anything else it is 0.
func offset(source, piece []byte) int {
	if len(source) == 0 {
		return 0
	}
	at := uintptr(unsafe.Pointer(unsafe.SliceData(piece))) - uintptr(unsafe.Pointer(unsafe.SliceData(source)))
	if at > uintptr(len(source)) {
		return 0
	}
	return int(at)
}
