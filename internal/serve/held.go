package serve

import (
	"bytes"
	"io"
	"net/http"
	"strconv"
	"sync"
	"sync/atomic"
	"time"
)

// What is held in memory, in bytes.
const (
	smallFile = 256 << 10 // the largest file
	mostHeld  = 64 << 20  // all of them
)

// Held keeps the bytes of small files for the next who asks, so that they need not be opened. The zero value is ready for use, by
// several goroutines. What is under a key must never change.
type Held struct {
	list  sync.Map
	bytes atomic.Int64
}

// Get returns the bytes under a key, read once by read; nil for a file that is too large, or when there is no room left, or when it
// can't be read.
func (h *Held) Get(key any, size int64, read func() ([]byte, error)) []byte {
	if data, ok := h.list.Load(key); ok {
		return data.([]byte)
	}
	if size > smallFile || h.bytes.Load()+size > mostHeld {
		return nil
	}
	data, err := read()
	if err != nil || int64(len(data)) != size {
		return nil
	}
	h.list.Store(key, data)
	h.bytes.Add(size)
	return data
}

// Clear forgets everything.
func (h *Held) Clear() {
	h.list.Clear()
	h.bytes.Store(0)
}

var bytesUnit = []string{"bytes"}

// Answer answers a request with bytes that are held. The type and validators stand in the header already.
func Answer(w http.ResponseWriter, r *http.Request, data []byte) {
	if all(w, r, int64(len(data))) {
		if !together(w, r, data) {
			w.Write(data) // an error here is a visitor who left
		}
		return
	}
	http.ServeContent(w, r, "", time.Time{}, bytes.NewReader(data))
}

// AnswerFrom answers a request from a file of that many bytes, without copying them where the system can send files.
func AnswerFrom(w http.ResponseWriter, r *http.Request, file io.ReadSeeker, size int64) {
	if all(w, r, size) {
		io.CopyN(w, file, size) // likewise
		return
	}
	http.ServeContent(w, r, "", time.Time{}, file)
}

// all reports whether nothing but the whole is asked for, and then writes the header for it.
func all(w http.ResponseWriter, r *http.Request, size int64) bool {
	if r.Header["Range"] != nil || r.Header["If-None-Match"] != nil || r.Header["If-Range"] != nil || r.Header["If-Match"] != nil || r.Method != http.MethodGet {
		return false
	}
	h := w.Header()
	h["Accept-Ranges"], h["Content-Length"] = bytesUnit, []string{strconv.FormatInt(size, 10)}
	return true
}
