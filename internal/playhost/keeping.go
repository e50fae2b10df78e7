package playhost

import (
	"context"
	"database/sql"
	"errors"
	"net/http"
	"time"
)

// forget deletes sessions, with their events and clips, one after another, and tells how many. which is a condition on the table of
// sessions.
func (h *Host) forget(ctx context.Context, which string, values ...any) (gone int, err error) {
	ids, err := texts(h.data.query(ctx, "SELECT id FROM sessions WHERE "+which, values...))
	if err != nil {
		return 0, err
	}
	for _, id := range ids {
		if err := h.forgetOne(ctx, id); err != nil {
			return gone, err
		}
		gone++
	}
	if gone == 0 {
		return 0, nil
	}
	return gone, h.data.scrub(ctx)
}

// forgetOne deletes a session. Files go before the notes of them: what is noted and gone is asked to go once more, what is there and not
// noted stays for ever.
func (h *Host) forgetOne(ctx context.Context, id string) error {
	clips, err := texts(h.data.query(ctx, "SELECT name FROM clips WHERE session = ?", id))
	if err == nil {
		err = h.files.Remove(ctx, append(clips, clipName(id, int64(len(clips))+1))...) // one more may be there that was never noted
	}
	if err != nil {
		return err
	}
	var late []string
	err = h.data.within(ctx, func(q queries) (err error) {
		if late, err = texts(q.query(ctx, "DELETE FROM clips WHERE session = ? RETURNING name", id)); err != nil {
			return err
		}
		if _, err := q.exec(ctx, "DELETE FROM batches WHERE session = ?", id); err != nil {
			return err
		}
		return leave(ctx, q, id)
	})
	if err != nil || len(late) == len(clips) {
		return err
	}
	return h.files.Remove(ctx, late...) // of a piece that came in between
}

// leave takes a session out of its round, which has room for another tester then.
func leave(ctx context.Context, q queries, session string) error {
	var of string
	var simulated bool
	err := q.row(ctx, "DELETE FROM sessions WHERE id = ? RETURNING round, simulated", session).Scan(&of, &simulated)
	if errors.Is(err, sql.ErrNoRows) {
		return nil // another request took it
	}
	if err != nil {
		return err
	}
	column := "testers"
	if simulated {
		column = "simulated"
	}
	_, err = q.exec(ctx, "UPDATE rounds SET "+column+" = "+column+" - 1 WHERE id = ? AND "+column+" > 0", of)
	return err
}

// forgetRound deletes all that came back of a round, and closes it.
func (h *Host) forgetRound(w http.ResponseWriter, r *http.Request) {
	x := h.ownRound(w, r)
	if x == nil {
		return
	}
	_, err := h.data.exec(r.Context(), "UPDATE rounds SET closed = 1, forget = ?, ended = ? WHERE id = ?",
		seconds(h.options.Now()), seconds(h.options.Now()), x.id)
	h.forgetPlaying(x)
	gone := 0
	if err == nil {
		err = h.dropReport(r.Context(), x.id)
	}
	if err == nil {
		gone, err = h.forget(r.Context(), "round = ?", x.id)
	}
	if err != nil {
		h.fail(w, err)
		return
	}
	answer(w, http.StatusOK, map[string]int{"forgotten": gone})
}

// abandoned is after how long an upload that nobody went on with is given up.
const abandoned = 7 * 24 * time.Hour

// sweep deletes what has been kept for as long as was said, and uploads that were given up.
func (h *Host) sweep(ctx context.Context) error {
	now := h.options.Now()
	_, err := h.forget(ctx, "round IN (SELECT id FROM rounds WHERE forget < ?)", seconds(now))
	shared, asked := texts(h.data.query(ctx, "SELECT round FROM reports JOIN rounds ON rounds.id = reports.round WHERE rounds.forget < ?",
		seconds(now)))
	err = errors.Join(err, asked)
	for _, id := range shared {
		err = errors.Join(err, h.dropReport(ctx, id))
	}
	_, tidied := h.data.exec(ctx, "DELETE FROM guesses WHERE since < ?", seconds(now.Add(-time.Hour)))
	err = errors.Join(err, tidied)
	err = errors.Join(err, h.collect(ctx))
	old, asked := texts(h.data.query(ctx, "SELECT id FROM builds WHERE state = ? AND made < ?", Arriving, seconds(now.Add(-abandoned))))
	err = errors.Join(err, asked)
	for _, id := range old {
		list, _, asked := h.pieces(ctx, h.data.queries, id)
		if err = errors.Join(err, asked); asked != nil {
			continue
		}
		for _, p := range list {
			err = errors.Join(err, h.files.Remove(ctx, p.name))
		}
		err = errors.Join(err, h.data.within(ctx, func(q queries) error {
			_, first := q.exec(ctx, "DELETE FROM pieces WHERE build = ?", id)
			_, second := q.exec(ctx, "DELETE FROM builds WHERE id = ? AND state = ?", id, Arriving)
			return errors.Join(first, second)
		}))
	}
	return err
}

// sweeps sweeps at once, and then every hour.
func (h *Host) sweeps(ctx context.Context) {
	for {
		if err := h.sweep(ctx); err != nil && ctx.Err() == nil {
			h.options.Log.Error("deleting what was kept long enough", "error", err)
		}
		select {
		case <-ctx.Done():
			return
		case <-time.After(time.Hour):
		}
	}
}
