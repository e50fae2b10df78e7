package playhost

import (
	"context"
	"database/sql"
	"errors"
	"io"
	"net/http"

	"havvel/internal/disk"
)

// largestReport is the largest page of a report, in bytes.
const largestReport = 120 << 20

// shareReport keeps a page that an owner made of a round, for those who get its link. Another one takes its place under the same link.
func (h *Host) shareReport(w http.ResponseWriter, r *http.Request) {
	x := h.ownRound(w, r)
	if x == nil {
		return
	}
	var link string
	err := spool(h.files, func(f disk.File) error {
		size, err := io.Copy(f, io.LimitReader(r.Body, largestReport+1))
		if err != nil {
			return &refusal{http.StatusBadRequest, "the page broke off"}
		}
		if size > largestReport {
			return &refusal{http.StatusRequestEntityTooLarge, "a page of a report has up to 120 MB"}
		}
		if err := h.roomFor(r.Context(), x.owner, size); err != nil {
			return err
		}
		name := "reports/" + x.id + "/" + newID()
		if err := h.files.Put(r.Context(), name, f); err != nil {
			return err
		}
		link, err = h.noteReport(r.Context(), x, name, size)
		return err
	})
	if err != nil {
		h.fail(w, err)
		return
	}
	answer(w, http.StatusCreated, map[string]string{"link": link})
}

func (h *Host) noteReport(ctx context.Context, x *playRound, name string, size int64) (link string, err error) {
	secret, before := newID(), ""
	err = h.data.within(ctx, func(q queries) error {
		err := q.row(ctx, "SELECT secret, name FROM reports WHERE round = ?", x.id).Scan(&secret, &before)
		if err != nil && !errors.Is(err, sql.ErrNoRows) {
			return err
		}
		_, err = q.exec(ctx, `INSERT INTO reports (round, secret, name, bytes) VALUES (?, ?, ?, ?)
			ON CONFLICT (round) DO UPDATE SET name = excluded.name, bytes = excluded.bytes`, x.id, secret, name, size)
		return err
	})
	if err != nil {
		h.files.Remove(context.WithoutCancel(ctx), name) // what isn't noted is nobody's
		return "", err
	}
	if before != "" {
		err = h.files.Remove(ctx, before)
	}
	return h.options.ControlURL + "/s/" + secret, err
}

// unshareReport takes a page back.
func (h *Host) unshareReport(w http.ResponseWriter, r *http.Request) {
	x := h.ownRound(w, r)
	if x == nil {
		return
	}
	if err := h.dropReport(r.Context(), x.id); err != nil {
		h.fail(w, err)
		return
	}
	w.WriteHeader(http.StatusNoContent)
}

// dropReport takes the page of a round away, if there is one.
func (h *Host) dropReport(ctx context.Context, of string) error {
	names, err := texts(h.data.query(ctx, "DELETE FROM reports WHERE round = ? RETURNING name", of))
	if err != nil {
		return err
	}
	return h.files.Remove(ctx, names...)
}

// sharedReport shows a page to those who have its link. Nothing in it reaches the host: it is looked at as if it were a file.
func (h *Host) sharedReport(w http.ResponseWriter, r *http.Request) {
	var name string
	err := h.data.row(r.Context(), "SELECT name FROM reports WHERE secret = ?", r.PathValue("secret")).Scan(&name)
	if errors.Is(err, sql.ErrNoRows) {
		http.Error(w, "There is no such report here, or it was taken back.", http.StatusNotFound)
		return
	}
	var page io.ReadSeekCloser
	if err == nil {
		page, err = h.files.Open(r.Context(), name)
	}
	if err != nil {
		h.fail(w, err)
		return
	}
	defer page.Close()
	head := w.Header()
	head.Set("Content-Type", "text/html; charset=utf-8")
	head.Set("Cache-Control", "no-store")
	head.Set("X-Robots-Tag", "noindex")
	head.Set("Content-Security-Policy", "sandbox allow-scripts; default-src 'none'; style-src 'unsafe-inline'; script-src 'unsafe-inline'; "+
		"media-src data:; frame-ancestors 'none'")
	io.Copy(w, page) // an error here is a visitor who left
}
