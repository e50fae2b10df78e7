package playhost

import (
	"bufio"
	"context"
	"encoding/json"
	"net/http"
	"strings"
	"time"

	"havvel/internal/round"
)

// exportRound writes all that came back of a round as JSON Lines, session by session, in the order in which it happened. What is written
// was read before: an owner who reads slowly holds nothing.
func (h *Host) exportRound(w http.ResponseWriter, r *http.Request) {
	x := h.ownRound(w, r)
	if x == nil {
		return
	}
	w.Header().Set("Content-Type", "application/jsonl")
	w.Header().Set("Cache-Control", "no-store")
	out := bufio.NewWriterSize(w, 64<<10)
	var last place
	for {
		page, err := h.exported(r.Context(), x.id, &last)
		if err == nil && len(page) == 0 {
			break
		}
		for _, s := range page {
			if err == nil {
				err = s.write(out)
			}
		}
		if err != nil {
			if r.Context().Err() == nil {
				h.options.Log.Error("exporting a round", "round", x.id, "error", h.withoutAddresses(err.Error()))
			}
			panic(http.ErrAbortHandler) // so that what is cut does not look whole
		}
	}
	out.Flush() // an error here is an owner who left
}

// A place is where an export is: the session that was written last.
type place struct {
	made int64
	id   string
}

// An exportedSession is a session with its events' lines.
type exportedSession struct {
	head  round.Line
	lines []string
}

// What is read at a time.
const (
	pageSessions = 100
	pageBytes    = 4 << 20
)

// exported reads the next sessions, and moves on behind them.
func (h *Host) exported(ctx context.Context, of string, last *place) ([]*exportedSession, error) {
	rows, err := h.data.query(ctx, `SELECT sessions.id, sessions.made, sessions.device, sessions.simulated, sessions.cut, sessions.bytes,
		(SELECT COALESCE(SUM(clips.bytes), 0) FROM clips WHERE clips.session = sessions.id)
		FROM sessions WHERE round = ? AND (made, id) > (?, ?) ORDER BY made, id LIMIT ?`, of, last.made, last.id, pageSessions)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var page []*exportedSession
	for left := int64(pageBytes); left > 0 && rows.Next(); {
		s := &exportedSession{head: round.Line{Format: round.Format}}
		var at place
		var device string
		var bytes int64
		if err := rows.Scan(&at.id, &at.made, &device, &s.head.Simulated, &s.head.Cut, &bytes, &s.head.Clip); err != nil {
			return nil, err
		}
		opened := time.Unix(at.made, 0).UTC()
		s.head.Session, s.head.Opened, s.head.Device = at.id, &opened, json.RawMessage(device)
		page, *last = append(page, s), at
		left -= bytes
	}
	if err := rows.Err(); err != nil {
		return nil, err
	}
	rows.Close() // before the next queries, so that one connection is enough
	for _, s := range page {
		if s.lines, err = texts(h.data.query(ctx, "SELECT lines FROM batches WHERE session = ? ORDER BY first", s.head.Session)); err != nil {
			return nil, err
		}
	}
	return page, nil
}

func (s *exportedSession) write(out *bufio.Writer) error {
	if err := json.NewEncoder(out).Encode(s.head); err != nil {
		return err
	}
	for _, l := range s.lines {
		if _, err := out.WriteString(strings.TrimSuffix(l, "\n") + "\n"); err != nil {
			return err
		}
	}
	return nil
}
