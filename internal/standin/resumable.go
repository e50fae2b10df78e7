package standin

import (
	"bytes"
	"crypto/sha256"
	"encoding/base64"
	"encoding/hex"
	"fmt"
	"io"
	"net/http"
	"os"
	"strconv"
	"strings"
)

// The open protocol for resumable uploads, version 1.0.0, with its checksum extension.
const protocolVersion = "1.0.0"

func (a *Portal) offers(w http.ResponseWriter, _ *http.Request) {
	h := w.Header()
	h.Set("Tus-Resumable", protocolVersion)
	h.Set("Tus-Version", protocolVersion)
	h.Set("Tus-Extension", "creation,checksum")
	h.Set("Tus-Checksum-Algorithm", "sha256")
	w.WriteHeader(http.StatusNoContent)
}

func (a *Portal) part(id string) string { return a.archive(id) + ".part" }

func (a *Portal) beginUpload(w http.ResponseWriter, r *http.Request) {
	id := r.PathValue("id")
	length, err := strconv.ParseInt(r.Header.Get("Upload-Length"), 10, 64)
	if err != nil || length < 0 || length > maxUpload {
		refuse(w, http.StatusRequestEntityTooLarge, "the archive is over 80 MB")
		return
	}
	err = a.change(func(s *state) error {
		v := s.Versions[id]
		if v == nil {
			return &no{http.StatusNotFound, "nothing was announced under this address"}
		}
		if v.State != awaiting {
			return &no{http.StatusConflict, "this version has its archive already"}
		}
		v.Bytes = length
		return os.WriteFile(a.part(id), nil, 0o644)
	})
	if err != nil {
		answerError(w, err)
		return
	}
	w.Header().Set("Tus-Resumable", protocolVersion)
	w.Header().Set("Location", "/api/uploads/"+id+"/bytes")
	w.WriteHeader(http.StatusCreated)
}

// offset is how much of an upload is here.
func (a *Portal) offset(v version) int64 {
	if v.State != awaiting {
		return v.Bytes
	}
	if info, err := os.Stat(a.part(v.ID)); err == nil {
		return info.Size()
	}
	return -1
}

func (a *Portal) uploadOffset(w http.ResponseWriter, r *http.Request) {
	v, ok := a.versionByID(r.PathValue("id"))
	at := a.offset(v)
	if !ok || at < 0 {
		w.WriteHeader(http.StatusNotFound)
		return
	}
	h := w.Header()
	h.Set("Tus-Resumable", protocolVersion)
	h.Set("Cache-Control", "no-store")
	h.Set("Upload-Offset", strconv.FormatInt(at, 10))
	h.Set("Upload-Length", strconv.FormatInt(v.Bytes, 10))
	w.WriteHeader(http.StatusOK)
}

func (a *Portal) appendUpload(w http.ResponseWriter, r *http.Request) {
	v, ok := a.versionByID(r.PathValue("id"))
	at := a.offset(v)
	said, err := strconv.ParseInt(r.Header.Get("Upload-Offset"), 10, 64)
	switch {
	case !ok || at < 0:
		refuse(w, http.StatusNotFound, "there is no such upload")
		return
	case v.State != awaiting || err != nil || said != at:
		refuse(w, http.StatusConflict, fmt.Sprintf("the upload is at %d", at))
		return
	case r.Header.Get("Content-Type") != "application/offset+octet-stream":
		refuse(w, http.StatusUnsupportedMediaType, "a piece is application/offset+octet-stream")
		return
	}
	if err := a.piece(r, v, at); err != nil {
		answerError(w, err)
		return
	}
	at = a.offset(v)
	w.Header().Set("Tus-Resumable", protocolVersion)
	w.Header().Set("Upload-Offset", strconv.FormatInt(at, 10))
	if at == v.Bytes {
		if err := a.finished(v); err != nil {
			answerError(w, err)
			return
		}
	}
	w.WriteHeader(http.StatusNoContent)
}

// piece appends what comes. Without a checksum everything that arrives stays; with one, all of it or nothing.
func (a *Portal) piece(r *http.Request, v version, at int64) error {
	f, err := os.OpenFile(a.part(v.ID), os.O_WRONLY|os.O_APPEND, 0o644)
	if err != nil {
		return err
	}
	defer f.Close()
	body := io.LimitReader(r.Body, v.Bytes-at)
	algorithm, want, _ := strings.Cut(r.Header.Get("Upload-Checksum"), " ")
	if algorithm == "" {
		_, err = io.Copy(f, body)
		return err
	}
	var data bytes.Buffer
	if _, err := io.Copy(&data, body); err != nil {
		return &no{http.StatusBadRequest, "the piece did not arrive whole"}
	}
	sum := sha256.Sum256(data.Bytes())
	if base64.StdEncoding.EncodeToString(sum[:]) != want || a.options.Fault == WrongChecksum && a.first("checksum") {
		return &no{460, "the piece arrived damaged"}
	}
	_, err = f.Write(data.Bytes())
	return err
}

// finished takes a finished upload, if it is what was announced.
func (a *Portal) finished(v version) error {
	data, err := os.ReadFile(a.part(v.ID))
	if err != nil {
		return err
	}
	if sum := sha256.Sum256(data); hex.EncodeToString(sum[:]) != v.SHA256 {
		os.Remove(a.part(v.ID))
		return &no{http.StatusUnprocessableEntity, "what arrived is not what was announced: the sums differ"}
	}
	if err := os.Rename(a.part(v.ID), a.archive(v.ID)); err != nil {
		return err
	}
	err = a.change(func(s *state) error {
		s.Versions[v.ID].State = checking
		return nil
	})
	if err == nil {
		a.verifyLater(v.ID)
	}
	return err
}
