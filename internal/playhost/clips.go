package playhost

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"io"
	"net/http"
	"strconv"

	"havvel/internal/disk"
)

// What a clip may be.
const (
	mostClip      = 12 << 20 // bytes of a session's clip
	mostClipPiece = 2 << 20
)

// takeClip keeps one piece of a session's clip. A piece that came before is kept once.
func (h *Host) takeClip(w http.ResponseWriter, r *http.Request) {
	x := h.open(w, r)
	if x == nil || !h.ours(w, r) || h.slow(w, pictures, r.PathValue("id")) {
		return
	}
	n, err := strconv.Atoi(r.PathValue("n"))
	if err != nil || n < 1 || n > 10_000 || !x.record {
		h.refuse(w, http.StatusBadRequest, "this is no piece of a clip that is asked for")
		return
	}
	if err := h.keepClip(r.Context(), x.id, r.PathValue("id"), n, r.Body); err != nil {
		h.fail(w, err)
		return
	}
	answer(w, http.StatusOK, map[string]int{"kept": n})
}

func (h *Host) keepClip(ctx context.Context, of, session string, n int, body io.Reader) error {
	return spool(h.files, func(f disk.File) error {
		size, err := io.Copy(f, io.LimitReader(body, mostClipPiece+1))
		if err != nil {
			return &refusal{http.StatusBadRequest, "the piece broke off"}
		}
		if size > mostClipPiece {
			return &refusal{http.StatusRequestEntityTooLarge, "a piece of a clip has up to 2 MB"}
		}
		name := clipName(session, int64(n))
		err = h.data.within(ctx, func(q queries) error {
			return h.noteClip(ctx, q, of, session, n, size, name, f)
		})
		if errors.Is(err, errThere) {
			return nil
		}
		if err == nil {
			h.counts.clipBytes.Add(size)
		}
		return err
	})
}

// clipName is where a piece of a clip is kept. It follows from its number, so that one whose note was lost is replaced when it comes again.
func clipName(session string, n int64) string { return fmt.Sprintf("clips/%s/%05d", session, n) }

var errThere = errors.New("it is there")

// noteClip keeps a piece before it is noted, and holds the session meanwhile, so that taking it back takes back all.
func (h *Host) noteClip(ctx context.Context, q queries, of, session string, n int, size int64, name string, f disk.File) error {
	var id string
	err := q.row(ctx, "UPDATE sessions SET last = last WHERE id = ? AND round = ? RETURNING id", session, of).Scan(&id)
	if errors.Is(err, sql.ErrNoRows) {
		return errNoSession
	}
	if err != nil {
		return err
	}
	var there, kept int64
	if err := q.row(ctx, "SELECT COUNT(*) FROM clips WHERE session = ? AND n = ?", session, n).Scan(&there); err != nil {
		return err
	}
	if there > 0 {
		return errThere
	}
	if err := q.row(ctx, "SELECT COALESCE(SUM(bytes), 0) FROM clips WHERE session = ?", session).Scan(&kept); err != nil {
		return err
	}
	if kept+size > mostClip {
		return &refusal{http.StatusRequestEntityTooLarge, fmt.Sprintf("a clip has up to %d MB", mostClip>>20)}
	}
	if err := h.files.Put(ctx, name, f); err != nil {
		return err
	}
	_, err = q.exec(ctx, "INSERT INTO clips (session, n, bytes, name) VALUES (?, ?, ?, ?)", session, n, size, name)
	return err
}

// showClip joins the pieces of a session's clip.
func (h *Host) showClip(w http.ResponseWriter, r *http.Request) {
	x := h.ownRound(w, r)
	if x == nil {
		return
	}
	names, err := h.clipNames(r.Context(), "sessions.id = ? AND sessions.round = ?", r.PathValue("session"), x.id)
	if err == nil && len(names) == 0 {
		err = &refusal{http.StatusNotFound, "there is no clip of this session"}
	}
	if err != nil {
		h.fail(w, err)
		return
	}
	w.Header().Set("Content-Type", "video/webm")
	w.Header().Set("Cache-Control", "no-store")
	for _, name := range names {
		if err := h.joinPiece(r.Context(), piece{name: name}, w); err != nil {
			h.options.Log.Error("reading a clip", "error", err)
			panic(http.ErrAbortHandler)
		}
	}
}

// clipNames are the files of the clips of sessions, in their order.
func (h *Host) clipNames(ctx context.Context, which string, values ...any) ([]string, error) {
	return texts(
		h.data.query(
			ctx,
			"SELECT clips.name FROM clips JOIN sessions ON sessions.id = clips.session WHERE "+which+" ORDER BY clips.session, clips.n",
			values...),
	)
}
