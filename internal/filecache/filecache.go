// Package filecache keeps small files in memory, ready to be answered over HTTP (RFC 9110) as they are, in ranges and to those who have
// them already. What files are and how they are served is left to those who use it.
package filecache

import (
	"bytes"
	"io"
	"maps"
	"net/http"
	"strconv"
	"sync"
	"sync/atomic"
	"time"
)

// What is kept in memory, in bytes.
const (
	smallFile = 256 << 10 // the largest file
	mostKept  = 64 << 20  // all of them
)

// A Cache keeps small files ready for the next who asks, so that they need not be opened. The zero value is ready for use, by several
// goroutines. What is under a key must never change.
type Cache struct {
	list  sync.Map
	bytes atomic.Int64
}

// Get returns the file under a key. The first time, read gives its bytes, and head the fields of its header. It is nil for a file
// that is too large, or when there is no room left, or when it can't be read.
func (h *Cache) Get(key any, size int64, head func() http.Header, read func() ([]byte, error)) *Ready {
	if ready := h.Find(key); ready != nil {
		return ready
	}
	if size > smallFile || h.bytes.Load()+size > mostKept {
		return nil
	}
	data, err := read()
	if err != nil || int64(len(data)) != size {
		return nil
	}
	ready := NewReady(head(), data)
	h.list.Store(key, ready)
	h.bytes.Add(size)
	return ready
}

// Find returns the file under a key that is ready; nil where none is.
func (h *Cache) Find(key any) *Ready {
	if ready, ok := h.list.Load(key); ok {
		return ready.(*Ready)
	}
	return nil
}

// Clear forgets everything.
func (h *Cache) Clear() {
	h.list.Clear()
	h.bytes.Store(0)
}

var bytesUnit = []string{"bytes"}

// Ready is an answer that is the same for all who ask.
type Ready struct {
	head   http.Header
	length []string
	data   []byte
}

// NewReady returns an answer with the fields of a header, type and validators among them, and a body. Neither may change afterwards.
func NewReady(head http.Header, data []byte) *Ready {
	head["Accept-Ranges"] = bytesUnit
	return &Ready{head, []string{strconv.Itoa(len(data))}, data}
}

// Answer answers a request. What stands in the header already is replaced.
func (a *Ready) Answer(w http.ResponseWriter, r *http.Request) { a.AnswerKept(w, r, nil) }

// AnswerKept answers a request with another Cache-Control than the answer's own, unless that is nil.
func (a *Ready) AnswerKept(w http.ResponseWriter, r *http.Request, keep []string) {
	h := w.Header()
	clear(h)
	maps.Copy(h, a.head)
	if keep != nil {
		h["Cache-Control"] = keep
	}
	if complete(r) {
		h["Content-Length"] = a.length
		w.Write(a.data) // an error here is a visitor who left
		return
	}
	http.ServeContent(w, r, "", time.Time{}, bytes.NewReader(a.data))
}

// AnswerFrom answers a request from a file of that many bytes, without copying them where the system can send files. The type and
// validators stand in the header already.
func AnswerFrom(w http.ResponseWriter, r *http.Request, file io.ReadSeeker, bytes int64) {
	if complete(r) {
		h := w.Header()
		h["Accept-Ranges"], h["Content-Length"] = bytesUnit, []string{strconv.FormatInt(bytes, 10)}
		io.CopyN(w, file, bytes) // likewise
		return
	}
	http.ServeContent(w, r, "", time.Time{}, file)
}

// complete reports whether a request is for all of a file, without conditions.
func complete(r *http.Request) bool {
	return r.Header["Range"] == nil && r.Header["If-None-Match"] == nil && r.Header["If-Range"] == nil && r.Header["If-Match"] == nil &&
		r.Method == http.MethodGet
}
