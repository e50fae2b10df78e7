package playhost

import (
	"bytes"
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"net/http"
	"slices"

	"havvel/internal/round"
)

// What a session may send. The page's own events, answers among them, have numbers and room of their own, so that no game can crowd them
// out.
const (
	mostEvents = 20_000 // of the game
	mostOwn    = 1_000
	ownFrom    = 100_000 // numbers of the page's own begin behind it
	mostBatch  = 200
	mostKept   = 4 << 20 // bytes of the game's events
	mostAnswer = 1 << 20 // likewise, of the page's own: all answers at their longest, twice
	mostAsked  = 512 << 10
)

// own are the kinds of events that come of the page itself; the others come of the game.
var own = []string{"answer", "paused", "resumed", "reloaded", "left", "cut"}

// games are the kinds of events that come of the game.
var games = []string{"event", "shown", "frames", "error", "clip", "presses"}

// An event, as a page sends it.
type event struct {
	N    int             `json:"n"`
	At   int64           `json:"at"`
	Kind string          `json:"kind"`
	Data json.RawMessage `json:"data"`
}

func (e event) isOwn() bool { return e.N > ownFrom }

// good reports whether an event is one that a page sends.
func (e event) good() bool {
	if e.isOwn() {
		return e.N <= ownFrom+mostOwn && e.At >= 0 && slices.Contains(own, e.Kind)
	}
	// Pages of before had one row of numbers for both.
	return e.N >= 1 && e.N <= mostEvents && e.At >= 0 && (slices.Contains(games, e.Kind) || slices.Contains(own, e.Kind))
}

// takeEvents keeps a batch, whose events are in the order of their numbers. An event that came before is kept once.
func (h *Host) takeEvents(w http.ResponseWriter, r *http.Request) {
	x := h.taking(w, r)
	if x == nil {
		return
	}
	session := r.PathValue("id")
	if h.limits.spent(batches, session, h.options.Now()) {
		h.tooOften(w)
		return
	}
	var in struct{ Events []event }
	err := json.NewDecoder(http.MaxBytesReader(w, r.Body, mostAsked)).Decode(&in)
	var large *http.MaxBytesError
	switch {
	case errors.As(err, &large):
		h.refuse(w, http.StatusRequestEntityTooLarge, "these are too many bytes at once")
		return
	case err != nil || len(in.Events) > mostBatch:
		h.refuse(w, http.StatusBadRequest, "these are no events")
		return
	}
	for i, e := range in.Events {
		if !e.good() || i > 0 && e.N <= in.Events[i-1].N {
			h.refuse(w, http.StatusBadRequest, "an event is not one that is taken")
			return
		}
	}
	kept, err := h.keepEvents(r.Context(), x.id, session, in.Events)
	if err != nil {
		h.fail(w, err)
		return
	}
	h.limits.allow(batches, session, h.options.Now())
	h.counts.events.Add(int64(kept.new))
	if kept.new > 0 && slices.ContainsFunc(in.Events, func(e event) bool { return e.Kind == "error" }) {
		h.tell(x, toldError)
	}
	answer(w, http.StatusOK, map[string]any{"kept": len(in.Events) - len(kept.cut), "lost": kept.cut, "full": kept.full})
}

// A keeping is what was done with a batch.
type keeping struct {
	new  int   // events that weren't there
	cut  []int // the numbers of those that there is no room for
	full bool  // there is no more room for the game's
}

// A lane is a row of numbers of a session's events.
type lane struct {
	last  int
	bytes int64
	most  int64
}

// add makes lines of those of a batch that are new and for which there is room.
func (l *lane) add(session string, batch []event, k *keeping) (lines []byte, first int, err error) {
	var text bytes.Buffer
	to := json.NewEncoder(&text)
	to.SetEscapeHTML(false)
	for _, e := range batch {
		if e.N <= l.last {
			continue
		}
		before := text.Len()
		line := round.Line{Session: session, N: e.N, At: e.At, Kind: e.Kind, Data: tidied(e.Kind, e.Data)}
		if err := to.Encode(line); err != nil {
			return nil, 0, err
		}
		l.last = e.N
		k.new++
		if l.bytes += int64(text.Len() - before); l.bytes > l.most {
			l.bytes -= int64(text.Len() - before)
			text.Truncate(before)
			k.cut = append(k.cut, e.N)
			continue
		}
		if first == 0 {
			first = e.N
		}
	}
	return text.Bytes(), first, nil
}

// keepEvents keeps those of a batch that are new, as the lines that are exported.
func (h *Host) keepEvents(ctx context.Context, of, session string, batch []event) (k keeping, err error) {
	split := slices.IndexFunc(batch, event.isOwn)
	if split < 0 {
		split = len(batch)
	}
	answered := slices.ContainsFunc(batch, func(e event) bool { return e.Kind == "answer" })
	err = h.data.within(ctx, func(q queries) error {
		k = keeping{cut: []int{}}
		game, page := lane{most: mostKept}, lane{most: mostAnswer}
		// An update holds the session until the end, so that two batches of it wait for each other.
		err := q.row(ctx, "UPDATE sessions SET last = last WHERE id = ? AND round = ? RETURNING last, bytes, last_own, own_bytes", session, of).
			Scan(&game.last, &game.bytes, &page.last, &page.bytes)
		if errors.Is(err, sql.ErrNoRows) {
			return errNoSession
		}
		if err != nil {
			return err
		}
		for _, part := range []struct {
			*lane
			events []event
		}{{&game, batch[:split]}, {&page, batch[split:]}} {
			lines, first, err := part.add(session, part.events, &k)
			if err != nil {
				return err
			}
			if first == 0 {
				continue
			}
			if _, err := q.exec(ctx, "INSERT INTO batches (session, first, lines) VALUES (?, ?, ?)", session, first, string(lines)); err != nil {
				return err
			}
		}
		if k.new == 0 {
			return nil
		}
		k.full = game.bytes > mostKept-mostData
		_, err = q.exec(ctx, `UPDATE sessions SET last = ?, bytes = ?, last_own = ?, own_bytes = ?, cut = cut + ?,
			answered = CASE WHEN ? = 1 THEN 1 ELSE answered END WHERE id = ?`,
			game.last, game.bytes, page.last, page.bytes, len(k.cut), flag(answered), session)
		return err
	})
	return k, err
}
