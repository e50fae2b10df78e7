package playhost

import (
	"bufio"
	"bytes"
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"net/http"
	"slices"
	"time"

	"havvel/internal/round"
)

// What one round, and one session, may send.
const (
	mostSessions = 10_000
	mostEvents   = 20_000
	mostBatch    = 200
	mostData     = 4 << 10 // bytes of one event
	mostAsked    = 256 << 10
)

// kinds are those of events that a page sends.
var kinds = []string{"event", "shown", "frames", "error", "answer", "paused", "resumed", "clip", "left"}

// ours refuses requests that another page made a browser send (the Fetch Metadata headers, and Origin where there are none).
func (h *Host) ours(w http.ResponseWriter, r *http.Request) bool {
	site, origin := r.Header.Get("Sec-Fetch-Site"), r.Header.Get("Origin")
	if site != "" && site != "same-origin" || site == "" && origin != "" && origin != h.options.ControlURL {
		h.refuse(w, http.StatusForbidden, "only the round's own page sends this")
		return false
	}
	return true
}

// beginSession takes note of a tester who agreed to share.
func (h *Host) beginSession(w http.ResponseWriter, r *http.Request) {
	x := h.open(w, r)
	if x == nil || !h.ours(w, r) || h.slow(w, entrants, x.id) {
		return
	}
	var in struct {
		Device    round.Device
		Simulated bool
	}
	if err := json.NewDecoder(http.MaxBytesReader(w, r.Body, 4<<10)).Decode(&in); err != nil {
		h.refuse(w, http.StatusBadRequest, "this is no session")
		return
	}
	device, err := json.Marshal(in.Device)
	if err != nil {
		h.refuse(w, http.StatusBadRequest, "this is no session")
		return
	}
	words, err := h.full(r.Context(), x)
	if err == nil && words != "" {
		h.refuse(w, http.StatusConflict, words)
		return
	}
	id := newID()
	if err == nil {
		_, err = h.data.exec(
			r.Context(),
			"INSERT INTO sessions (id, round, made, device, simulated) VALUES (?, ?, ?, ?, ?)",
			id,
			x.id,
			seconds(h.options.Now()),
			string(device),
			flag(in.Simulated),
		)
	}
	if err != nil {
		h.fail(w, err)
		return
	}
	answer(w, http.StatusCreated, map[string]string{"session": id})
}

// An event, as a page sends it.
type event struct {
	N    int             `json:"n"`
	At   int64           `json:"at"`
	Kind string          `json:"kind"`
	Data json.RawMessage `json:"data"`
}

// takeEvents keeps a batch, whose events are in the order of their numbers. An event that came before is kept once.
func (h *Host) takeEvents(w http.ResponseWriter, r *http.Request) {
	x := h.open(w, r)
	if x == nil || !h.ours(w, r) || h.slow(w, batches, r.PathValue("id")) {
		return
	}
	var in struct{ Events []event }
	if err := json.NewDecoder(http.MaxBytesReader(w, r.Body, mostAsked)).Decode(&in); err != nil || len(in.Events) > mostBatch {
		h.refuse(w, http.StatusBadRequest, "these are no events")
		return
	}
	for i, e := range in.Events {
		if e.N < 1 || e.N > mostEvents || e.At < 0 || len(e.Data) > mostData || !slices.Contains(kinds, e.Kind) ||
			i > 0 && e.N <= in.Events[i-1].N {
			h.refuse(w, http.StatusBadRequest, "an event is not one that is taken")
			return
		}
	}
	kept, err := h.keepEvents(r.Context(), x.id, r.PathValue("id"), in.Events)
	if err != nil {
		h.fail(w, err)
		return
	}
	h.counts.events.Add(int64(kept))
	answer(w, http.StatusOK, map[string]int{"kept": len(in.Events)})
}

var errNoSession = &refusal{http.StatusNotFound, "there is no such session in this round"}

// keepEvents keeps those of a batch that are new, as the lines that are exported, and tells how many.
func (h *Host) keepEvents(ctx context.Context, of, session string, batch []event) (kept int, err error) {
	err = h.data.within(ctx, func(q queries) error {
		var last int
		// An update holds the session until the end, so that two batches of it wait for each other.
		err := q.row(ctx, "UPDATE sessions SET last = last WHERE id = ? AND round = ? RETURNING last", session, of).Scan(&last)
		if errors.Is(err, sql.ErrNoRows) {
			return errNoSession
		}
		if err != nil {
			return err
		}
		batch = slices.DeleteFunc(batch, func(e event) bool { return e.N <= last })
		if kept = len(batch); kept == 0 {
			return nil
		}
		var text bytes.Buffer
		lines := json.NewEncoder(&text)
		for _, e := range batch {
			if err := lines.Encode(round.Line{Session: session, N: e.N, At: e.At, Kind: e.Kind, Data: e.Data}); err != nil {
				return err
			}
		}
		if _, err := q.exec(ctx, "INSERT INTO batches (session, first, lines) VALUES (?, ?, ?)", session, batch[0].N, text.String()); err != nil {
			return err
		}
		_, err = q.exec(ctx, "UPDATE sessions SET last = ? WHERE id = ?", batch[kept-1].N, session)
		return err
	})
	return kept, err
}

// forgetSession takes a session back, with all that came of it, also when its round is over.
func (h *Host) forgetSession(w http.ResponseWriter, r *http.Request) {
	x, err := h.roundBySecret(r.Context(), r.PathValue("secret"))
	if errors.Is(err, errNoRound) || err == nil && !h.ours(w, r) {
		h.refuse(w, http.StatusNotFound, "there is no such round")
		return
	}
	var gone int
	if err == nil {
		gone, err = h.forget(r.Context(), "id = ? AND round = ?", r.PathValue("id"), x.id)
	}
	if err == nil && gone == 0 {
		err = &refusal{http.StatusNotFound, "there is no such session"}
	}
	if err != nil {
		h.fail(w, err)
		return
	}
	w.WriteHeader(http.StatusNoContent)
}

// exportRound writes all that came back of a round as JSON Lines, session by session, in the order in which it happened.
func (h *Host) exportRound(w http.ResponseWriter, r *http.Request) {
	x := h.ownRound(w, r)
	if x == nil {
		return
	}
	rows, err := h.data.query(r.Context(), `SELECT sessions.id, sessions.made, sessions.device, sessions.simulated,
		(SELECT COALESCE(SUM(clips.bytes), 0) FROM clips WHERE clips.session = sessions.id), batches.lines
		FROM sessions LEFT JOIN batches ON batches.session = sessions.id WHERE sessions.round = ? ORDER BY sessions.made, sessions.id, `+
		`batches.first`, x.id)
	if err != nil {
		h.fail(w, err)
		return
	}
	defer rows.Close()
	w.Header().Set("Content-Type", "application/jsonl")
	w.Header().Set("Cache-Control", "no-store")
	out := bufio.NewWriterSize(w, 64<<10)
	if err := export(out, rows); err != nil {
		h.options.Log.Error("exporting a round", "round", x.id, "error", err)
		panic(http.ErrAbortHandler) // so that what is cut does not look whole
	}
	out.Flush() // an error here is an owner who left
}

func export(out *bufio.Writer, rows *sql.Rows) error {
	heads := json.NewEncoder(out)
	last := ""
	for rows.Next() {
		s := round.Line{Format: round.Format}
		var made int64
		var device string
		var lines sql.RawBytes
		if err := rows.Scan(&s.Session, &made, &device, &s.Simulated, &s.Clip, &lines); err != nil {
			return err
		}
		if s.Session != last {
			last = s.Session
			opened := time.Unix(made, 0).UTC()
			s.Opened, s.Device = &opened, json.RawMessage(device)
			if err := heads.Encode(s); err != nil {
				return err
			}
		}
		if _, err := out.Write(lines); err != nil {
			return err
		}
	}
	return rows.Err()
}
