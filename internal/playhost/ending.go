package playhost

import (
	"encoding/json"
	"fmt"
	"net/http"
	"time"
)

// closeRound ends a round at once: its page, its game and its events are refused from the next request on.
func (h *Host) closeRound(w http.ResponseWriter, r *http.Request) {
	x := h.ownRound(w, r)
	if x == nil {
		return
	}
	if _, err := h.data.exec(r.Context(), "UPDATE rounds SET closed = 1, ended = ? WHERE id = ? AND closed = 0",
		seconds(h.options.Now()), x.id); err != nil {
		h.fail(w, err)
		return
	}
	h.forgetPlaying(x)
	answer(w, http.StatusOK, map[string]bool{"open": false})
}

// pauseRound has a round show nothing for a while, or again.
func (h *Host) pauseRound(w http.ResponseWriter, r *http.Request) {
	x := h.ownRound(w, r)
	if x == nil {
		return
	}
	var in struct{ Paused bool }
	if err := json.NewDecoder(http.MaxBytesReader(w, r.Body, 4<<10)).Decode(&in); err != nil {
		h.refuse(w, http.StatusBadRequest, "this is not the JSON that the host expects")
		return
	}
	if h.over(x) {
		h.refuse(w, http.StatusConflict, "this round is over")
		return
	}
	if _, err := h.data.exec(r.Context(), "UPDATE rounds SET paused = ? WHERE id = ?", flag(in.Paused), x.id); err != nil {
		h.fail(w, err)
		return
	}
	h.forgetPlaying(x)
	answer(w, http.StatusOK, map[string]bool{"paused": in.Paused})
}

// extendRound has a round end later. The day on which what came back is deleted stays: testers were told it.
func (h *Host) extendRound(w http.ResponseWriter, r *http.Request) {
	x := h.ownRound(w, r)
	if x == nil {
		return
	}
	var in struct{ Seconds int64 }
	if err := json.NewDecoder(http.MaxBytesReader(w, r.Body, 4<<10)).Decode(&in); err != nil {
		h.refuse(w, http.StatusBadRequest, "this is not the JSON that the host expects")
		return
	}
	length := time.Duration(in.Seconds) * time.Second
	until := h.options.Now().Add(length)
	switch {
	case x.closed:
		h.refuse(w, http.StatusConflict, "this round was closed; open another one")
		return
	case in.Seconds <= 0 || in.Seconds > int64(longestRound/time.Second):
		h.refuse(w, http.StatusUnprocessableEntity, "a round is open for up to 100 days")
		return
	case until.After(x.forget):
		h.refuse(w, http.StatusConflict, fmt.Sprintf("what came back is deleted on %s, as testers were told, so the round ends before; "+
			"open another one", x.forget.Format("2 January 2006")))
		return
	}
	if _, err := h.data.exec(r.Context(), "UPDATE rounds SET until = ? WHERE id = ? AND closed = 0", seconds(until), x.id); err != nil {
		h.fail(w, err)
		return
	}
	h.forgetPlaying(x)
	answer(w, http.StatusOK, map[string]time.Time{"until": until.UTC().Truncate(time.Second)})
}
