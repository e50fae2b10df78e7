package playhost

import (
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"io"
	"net/http"
	"strconv"
	"sync"

	"havvel/internal/disk"
)

// The open protocol for resumable uploads, version 1.0.0: POST makes an upload, HEAD tells its offset, PATCH appends. What comes is
// kept in pieces, each noted in the database when it is kept, so that any host goes on from there when this one ends.
const protocolVersion = "1.0.0"

// pieceBytes is the most that is lost when a host is killed.
const pieceBytes = 4 << 20

// locks keeps two requests from doing the same at once.
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

// A piece is a part of an archive on its way.
type piece struct {
	start, bytes int64
	name         string
}

// pieces are those of a build, in their order.
func (h *Host) pieces(ctx context.Context, q queries, build string) (list []piece, there int64, err error) {
	rows, err := q.query(ctx, "SELECT start, bytes, name FROM pieces WHERE build = ? ORDER BY start", build)
	if err != nil {
		return nil, 0, err
	}
	defer rows.Close()
	for rows.Next() {
		var p piece
		if err := rows.Scan(&p.start, &p.bytes, &p.name); err != nil {
			return nil, 0, err
		}
		list, there = append(list, p), p.start+p.bytes
	}
	return list, there, rows.Err()
}

// arriving is the build that a request uploads to, and how many of its bytes are here; it answers itself when there is none that waits
// for bytes.
func (h *Host) arriving(w http.ResponseWriter, r *http.Request) (*Build, int64) {
	w.Header().Set("Tus-Resumable", protocolVersion)
	b, err := h.build(r.Context(), ownerOf(r), r.PathValue("id"))
	if err == nil && b.State != Arriving {
		err = &refusal{http.StatusConflict, "this build has its archive already"}
	}
	if errors.Is(err, errNoBuild) {
		err = &refusal{http.StatusNotFound, "there is no such build of yours"}
	}
	var there int64
	if err == nil {
		_, there, err = h.pieces(r.Context(), h.data.queries, b.ID)
	}
	if err != nil {
		h.fail(w, err)
		return nil, 0
	}
	return b, there
}

func (h *Host) beginUpload(w http.ResponseWriter, r *http.Request) {
	b, _ := h.arriving(w, r)
	if b == nil {
		return
	}
	if err := h.takeJoint(r.Context(), b, r); err != nil {
		h.fail(w, err)
		return
	}
	if length, err := strconv.ParseInt(r.Header.Get("Upload-Length"), 10, 64); err != nil || length != b.travels {
		h.refuse(w, http.StatusUnprocessableEntity, fmt.Sprintf("the upload must be of the %d bytes that were announced", b.travels))
		return
	}
	w.Header().Set("Location", "/api/builds/"+b.ID+"/bytes")
	w.WriteHeader(http.StatusCreated)
}

func (h *Host) uploadOffset(w http.ResponseWriter, r *http.Request) {
	b, there := h.arriving(w, r)
	if b == nil {
		return
	}
	if there == b.travels { // whole, and the host that had it was killed before it looked
		if err := h.arrived(context.WithoutCancel(r.Context()), b); err != nil {
			h.fail(w, err)
			return
		}
	}
	tellUpload(w, b, there)
	w.Header().Set("Cache-Control", "no-store")
	w.WriteHeader(http.StatusOK)
}

func (h *Host) appendUpload(w http.ResponseWriter, r *http.Request) {
	b, there := h.arriving(w, r)
	if b == nil {
		return
	}
	free, ok := h.writes.take(b.ID)
	if !ok {
		h.refuse(w, http.StatusConflict, "another request writes to this upload")
		return
	}
	defer free()
	offset, err := strconv.ParseInt(r.Header.Get("Upload-Offset"), 10, 64)
	if err != nil || offset != there {
		h.refuse(w, http.StatusConflict, fmt.Sprintf("the upload is at byte %d", there))
		return
	}
	ctx := context.WithoutCancel(r.Context()) // what came is kept, also when the connection breaks off
	for broken := false; offset < b.travels && !broken; {
		n, cut, err := h.keepPiece(ctx, b, offset, r.Body)
		if err != nil {
			h.fail(w, err)
			return
		}
		offset, broken = offset+n, cut
	}
	w.Header().Set("Upload-Offset", strconv.FormatInt(offset, 10))
	if offset == b.travels {
		if err := h.arrived(ctx, b); err != nil {
			h.fail(w, err)
			return
		}
	}
	w.WriteHeader(http.StatusNoContent)
}

// keepPiece keeps the next piece of an archive, and reports how much it is and whether that was all that comes.
func (h *Host) keepPiece(ctx context.Context, b *Build, start int64, body io.Reader) (n int64, last bool, err error) {
	err = spool(h.files, func(f disk.File) error {
		most := min(pieceBytes, b.travels-start)
		n, err = io.Copy(f, io.LimitReader(body, most))
		if last = n < most; n == 0 { // the body ended or broke off
			return nil
		}
		name := "uploads/" + b.ID + "/" + newID()
		if err := h.files.Put(ctx, name, f); err != nil {
			return err
		}
		_, err := h.data.exec(ctx, "INSERT INTO pieces (build, start, bytes, name) VALUES (?, ?, ?, ?)", b.ID, start, n, name)
		if err != nil {
			var noted int64 // it may be, when the connection broke while the database answered
			if asked := h.data.row(ctx, "SELECT COUNT(*) FROM pieces WHERE name = ?", name).Scan(&noted); asked == nil && noted == 0 {
				h.files.Remove(ctx, name) // else it stays, which loses nothing
			}
			return err
		}
		h.counts.uploadBytes.Add(n)
		return nil
	})
	return n, last, err
}

// assemble joins the pieces of an archive in f, and says what is wrong with it; "" when it is what was announced.
func (h *Host) assemble(ctx context.Context, b *Build, list []piece, f disk.File) (string, error) {
	hash := sha256.New()
	arrived := &joined{ctx: ctx, files: h.files}
	for _, p := range list {
		arrived.names = append(arrived.names, p.name)
	}
	defer arrived.Close()
	switch err := h.join(ctx, b, arrived, io.MultiWriter(f, hash)); {
	case errors.Is(err, errGone):
		return err.Error(), nil
	case err != nil:
		return "", err
	}
	if sumOf(hash) != b.SHA256 {
		return "what arrived is not what was announced: the sums differ", nil
	}
	return "", nil
}
