package playhost

import (
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"strconv"
	"sync"
)

// The open protocol for resumable uploads, version 1.0.0: POST makes an upload, HEAD tells its offset, PATCH appends. How far an
// upload is, is the size of its file, so that a host that was killed goes on from what it has.
const protocolVersion = "1.0.0"

// locks keeps two requests from writing to one upload.
type locks struct {
	mu    sync.Mutex
	taken map[string]bool
}

// take reports whether the name was free; free gives it back.
func (l *locks) take(name string) (free func(), ok bool) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.taken[name] {
		return nil, false
	}
	if l.taken == nil {
		l.taken = map[string]bool{}
	}
	l.taken[name] = true
	return func() {
		l.mu.Lock()
		defer l.mu.Unlock()
		delete(l.taken, name)
	}, true
}

func (h *Host) uploadPath(id string) string { return filepath.Join(h.options.Folder, "uploads", id) }

// arriving is the build that a request uploads to; it answers itself when there is none that waits for bytes.
func (h *Host) arriving(w http.ResponseWriter, r *http.Request) *Build {
	w.Header().Set("Tus-Resumable", protocolVersion)
	b, err := h.build(r.Context(), ownerOf(r), r.PathValue("id"))
	switch {
	case errors.Is(err, errNoBuild):
		h.refuse(w, http.StatusNotFound, "there is no such build of yours")
		return nil
	case err != nil:
		h.fail(w, err)
		return nil
	case b.State != Arriving:
		h.refuse(w, http.StatusConflict, "this build has its archive already")
		return nil
	}
	return b
}

func (h *Host) beginUpload(w http.ResponseWriter, r *http.Request) {
	b := h.arriving(w, r)
	if b == nil {
		return
	}
	if length, err := strconv.ParseInt(r.Header.Get("Upload-Length"), 10, 64); err != nil || length != b.Bytes {
		h.refuse(w, http.StatusUnprocessableEntity, fmt.Sprintf("the upload must be of the %d bytes that were announced", b.Bytes))
		return
	}
	f, err := os.OpenFile(h.uploadPath(b.ID), os.O_CREATE|os.O_WRONLY|os.O_TRUNC, 0o600)
	if err == nil {
		err = f.Close()
	}
	if err != nil {
		h.fail(w, err)
		return
	}
	w.Header().Set("Location", "/api/builds/"+b.ID+"/bytes")
	w.WriteHeader(http.StatusCreated)
}

func (h *Host) uploadOffset(w http.ResponseWriter, r *http.Request) {
	b := h.arriving(w, r)
	if b == nil {
		return
	}
	info, err := os.Stat(h.uploadPath(b.ID))
	if err != nil {
		w.WriteHeader(http.StatusNotFound)
		return
	}
	w.Header().Set("Upload-Offset", strconv.FormatInt(info.Size(), 10))
	w.Header().Set("Upload-Length", strconv.FormatInt(b.Bytes, 10))
	w.Header().Set("Cache-Control", "no-store")
	w.WriteHeader(http.StatusOK)
}

func (h *Host) appendUpload(w http.ResponseWriter, r *http.Request) {
	b := h.arriving(w, r)
	if b == nil {
		return
	}
	free, ok := h.taking.take(b.ID)
	if !ok {
		h.refuse(w, http.StatusConflict, "another request writes to this upload")
		return
	}
	defer free()
	f, err := os.OpenFile(h.uploadPath(b.ID), os.O_WRONLY|os.O_APPEND, 0o600)
	if err != nil {
		h.refuse(w, http.StatusNotFound, "this upload was not begun")
		return
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil {
		h.fail(w, err)
		return
	}
	offset, err := strconv.ParseInt(r.Header.Get("Upload-Offset"), 10, 64)
	if err != nil || offset != info.Size() {
		h.refuse(w, http.StatusConflict, fmt.Sprintf("the upload is at byte %d", info.Size()))
		return
	}
	n, copied := io.Copy(f, io.LimitReader(r.Body, b.Bytes-offset))
	if err := f.Sync(); err != nil { // what is acknowledged is on the disk
		h.fail(w, err)
		return
	}
	if copied != nil {
		return // the connection broke off; what came stays
	}
	w.Header().Set("Upload-Offset", strconv.FormatInt(offset+n, 10))
	if offset+n == b.Bytes {
		if err := h.arrived(context.WithoutCancel(r.Context()), b); err != nil {
			h.fail(w, err)
			return
		}
	}
	w.WriteHeader(http.StatusNoContent)
}

// whole says what is wrong with the bytes of an upload; "" when they are those that were announced.
func (h *Host) whole(b *Build) (string, error) {
	f, err := os.Open(h.uploadPath(b.ID))
	if err != nil {
		return "", err
	}
	defer f.Close()
	hash := sha256.New()
	if _, err := io.Copy(hash, f); err != nil {
		return "", err
	}
	if sumOf(hash) != b.SHA256 {
		return "what arrived is not what was announced: the sums differ", nil
	}
	return "", nil
}
