package slim

import (
	"bytes"
	"encoding/binary"
	"strings"
)

// module leaves the sections of a WebAssembly module out that only debuggers read: names, and what begins with .debug (core specification,
// section 5.5.3 and appendix 7.4). Other custom sections stay, since the game or its loader may read them.
func module(data []byte) []byte {
	const head = 8
	if len(data) < head {
		return nil
	}
	out := append(make([]byte, 0, len(data)), data[:head]...)
	for at := head; at < len(data); {
		size, n := binary.Uvarint(data[at+1:])
		begin := at + 1 + n
		if n <= 0 || n > 5 || size > uint64(len(data)-begin) {
			return nil
		}
		end := begin + int(size)
		if data[at] != 0 || !forDebuggers(data[begin:end]) {
			out = append(out, data[at:end]...)
		}
		at = end
	}
	if bytes.Equal(out, data) {
		return nil
	}
	return out
}

// forDebuggers reports whether a custom section is one that only debuggers read.
func forDebuggers(section []byte) bool {
	size, n := binary.Uvarint(section)
	if n <= 0 || size > uint64(len(section)-n) {
		return false
	}
	name := string(section[n : n+int(size)])
	return name == "name" || strings.HasPrefix(name, ".debug") || name == "sourceMappingURL" || name == "external_debug_info"
}
