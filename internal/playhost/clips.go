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
	x := h.taking(w, r)
	if x == nil {
		return
	}
	session := r.PathValue("id")
	if h.limits.spent(pictures, session, h.options.Now()) {
		h.tooOften(w)
		return
	}
	n, err := strconv.Atoi(r.PathValue("n"))
	if err != nil || n < 1 || n > 10_000 || !x.record {
		h.refuse(w, http.StatusBadRequest, "this is no piece of a clip that is asked for")
		return
	}
	if err := h.keepClip(r.Context(), x.id, session, n, r.Body); err != nil {
		h.fail(w, err)
		return
	}
	h.limits.allow(pictures, session, h.options.Now())
	answer(w, http.StatusOK, map[string]int{"kept": n})
}

func (h *Host) keepClip(ctx context.Context, of, session string, n int, body io.Reader) error {
	err := h.roomForClip(ctx, h.data.queries, of, session, n, 0)
	if errors.Is(err, errThere) {
		return nil
	}
	if err != nil {
		return err
	}
	return spool(h.files, func(f disk.File) error {
		size, err := io.Copy(f, io.LimitReader(body, mostClipPiece+1))
		if err != nil {
			return &refusal{http.StatusBadRequest, "the piece broke off"}
		}
		if size > mostClipPiece {
			return &refusal{http.StatusRequestEntityTooLarge, "a piece of a clip has up to 2 MB"}
		}
		if err := h.roomForClip(ctx, h.data.queries, of, session, n, size); err != nil {
			return err
		}
		// The file is there before it is noted, and nothing is held while it is written.
		name := clipName(session, int64(n))
		if err := h.files.Put(ctx, name, f); err != nil {
			return err
		}
		err = h.data.within(ctx, func(q queries) error { return h.noteClip(ctx, q, of, session, n, size, name) })
		switch {
		case errors.Is(err, errThere):
			return nil
		case err != nil:
			h.files.Remove(context.WithoutCancel(ctx), name) // what isn't noted is nobody's
			return err
		}
		h.counts.clipBytes.Add(size)
		return nil
	})
}

// clipName is where a piece of a clip is kept. It follows from its number, so that one whose note was lost is replaced when it comes again.
func clipName(session string, n int64) string { return fmt.Sprintf("clips/%s/%05d", session, n) }

var errThere = errors.New("it is there")

// roomForClip says why a piece is not taken: there is no such session, it is there already (errThere), or the clip is long enough.
func (h *Host) roomForClip(ctx context.Context, q queries, of, session string, n int, size int64) error {
	var there, kept int64
	err := q.row(ctx, `SELECT (SELECT COUNT(*) FROM clips WHERE session = sessions.id AND n = ?),
		(SELECT COALESCE(SUM(bytes), 0) FROM clips WHERE session = sessions.id) FROM sessions WHERE id = ? AND round = ?`, n, session, of).
		Scan(&there, &kept)
	switch {
	case errors.Is(err, sql.ErrNoRows):
		return errNoSession
	case err != nil:
		return err
	case there > 0:
		return errThere
	case kept+size > mostClip:
		return &refusal{http.StatusRequestEntityTooLarge, fmt.Sprintf("a clip has up to %d MB", mostClip>>20)}
	}
	return nil
}

// noteClip notes a piece that is kept, and holds the session meanwhile, so that taking it back takes back all.
func (h *Host) noteClip(ctx context.Context, q queries, of, session string, n int, size int64, name string) error {
	if _, err := q.exec(ctx, "UPDATE sessions SET last = last WHERE id = ? AND round = ?", session, of); err != nil {
		return err
	}
	if err := h.roomForClip(ctx, q, of, session, n, size); err != nil {
		return err
	}
	_, err := q.exec(ctx, "INSERT INTO clips (session, n, bytes, name) VALUES (?, ?, ?, ?)", session, n, size, name)
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
	whole := &joined{ctx: r.Context(), files: h.files, names: names}
	defer whole.Close()
	if _, err := io.Copy(w, whole); err != nil {
		h.options.Log.Error("reading a clip", "error", err)
		panic(http.ErrAbortHandler)
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
