package playhost

import (
	"context"
	"crypto/hmac"
	"crypto/sha256"
	"crypto/subtle"
	"database/sql"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"strings"
	"time"

	"havvel/internal/round"
)

// ours refuses requests that another page made a browser send (the Fetch Metadata headers, and Origin where there are none).
func (h *Host) ours(w http.ResponseWriter, r *http.Request) bool {
	site, origin := r.Header.Get("Sec-Fetch-Site"), r.Header.Get("Origin")
	if site != "" && site != "same-origin" || site == "" && origin != "" && origin != h.options.ControlURL {
		h.refuse(w, http.StatusForbidden, "only the round's own page sends this")
		return false
	}
	return true
}

// An admission is what a page says of a tester who agreed to share.
type admission struct {
	Device     round.Device
	Invitation string
	Simulated  string // the round's id, which its owner alone knows, where nobody plays
}

// A begun session is what a page goes on with.
type begun struct {
	Session string `json:"session"`
	Last    int    `json:"last"`     // the number of its last event
	LastOwn int    `json:"last_own"` // likewise, of the page's own
	Age     int64  `json:"age"`      // seconds since it was begun
	Again   bool   `json:"again"`    // the tester has come back
}

// beginSession takes note of a tester who agreed to share. One who comes back goes on in the same session.
func (h *Host) beginSession(w http.ResponseWriter, r *http.Request) {
	x := h.open(w, r)
	if x == nil || !h.ours(w, r) || h.slow(w, entrants, x.id) {
		return
	}
	var in admission
	if err := json.NewDecoder(http.MaxBytesReader(w, r.Body, 4<<10)).Decode(&in); err != nil {
		h.refuse(w, http.StatusBadRequest, "this is no session")
		return
	}
	tester := x.tester(r)
	if tester == "" {
		tester = newID()
	}
	out, err := h.enter(r.Context(), x, tester, &in)
	if err != nil {
		h.fail(w, err)
		return
	}
	if x.most > 0 && x.testers+1 >= x.most && !out.Again {
		h.tellFull(r.Context(), x)
	}
	h.bake(w, x, testerCookie, tester+"."+x.sign(tester))
	answer(w, http.StatusCreated, out)
}

// tellFull tells that a round has all its testers, where that is so.
func (h *Host) tellFull(ctx context.Context, x *playRound) {
	now, err := h.roundBySecret(ctx, x.secret)
	if err == nil && now.testers >= now.most {
		h.tell(now, toldFull)
	}
}

// enter finds the session of a tester, or begins one. Whether there is room is decided in the change that counts the tester, so that
// several hosts agree.
func (h *Host) enter(ctx context.Context, x *playRound, tester string, in *admission) (*begun, error) {
	device, err := json.Marshal(in.Device.Short())
	if err != nil {
		return nil, err
	}
	simulated := subtle.ConstantTimeCompare([]byte(in.Simulated), []byte(x.id)) == 1
	out := &begun{Session: newID()}
	err = h.data.within(ctx, func(q queries) error {
		if x.invited && !simulated {
			if _, err := invitedAs(ctx, q, x, in.Invitation); err != nil {
				return err
			}
			tester = in.Invitation
		}
		count := "UPDATE rounds SET testers = testers + 1 WHERE id = ? AND (most = 0 OR testers < most)"
		if simulated {
			count = "UPDATE rounds SET simulated = simulated + 1 WHERE id = ?"
		}
		// The round's row is held from here on, so that two visits of one tester don't begin two sessions.
		if _, err := q.exec(ctx, "UPDATE rounds SET testers = testers WHERE id = ?", x.id); err != nil {
			return err
		}
		var made int64
		err := q.row(ctx, "SELECT id, made, last, last_own FROM sessions WHERE round = ? AND tester = ?", x.id, tester).
			Scan(&out.Session, &made, &out.Last, &out.LastOwn)
		if err == nil {
			out.Age, out.Again = max(0, seconds(h.options.Now())-made), true
			return nil
		}
		if !errors.Is(err, sql.ErrNoRows) {
			return err
		}
		counted, err := q.exec(ctx, count, x.id)
		if err := one(counted, err, x.full()); err != nil {
			return err
		}
		_, err = q.exec(ctx, "INSERT INTO sessions (id, round, made, device, simulated, tester) VALUES (?, ?, ?, ?, ?, ?)",
			out.Session, x.id, seconds(h.options.Now()), string(device), flag(simulated), tester)
		return err
	})
	return out, err
}

// testerCookie tells one browser from another, and one visit from the next, in this round alone.
const testerCookie = "tester"

// tester is the one whose browser asks; "" for one who is new.
func (x *playRound) tester(r *http.Request) string {
	for _, c := range r.CookiesNamed(testerCookie) { // other pages of the domain may have set one, too
		if tester, mark, ok := strings.Cut(c.Value, "."); ok && hmac.Equal([]byte(mark), []byte(x.sign(tester))) {
			return tester
		}
	}
	return ""
}

// sign marks words as this round's. Its id is known to its owner alone.
func (x *playRound) sign(words string) string {
	m := hmac.New(sha256.New, []byte(x.id))
	m.Write([]byte(words))
	return hex.EncodeToString(m.Sum(nil))
}

// bake sets a cookie for the round's page, until its answers are taken no more.
func (h *Host) bake(w http.ResponseWriter, x *playRound, name, value string) {
	http.SetCookie(w, &http.Cookie{
		Name: name, Value: value, Path: "/r/" + x.secret, HttpOnly: true, Secure: h.options.secure(), Expires: x.until.Add(late),
		SameSite: http.SameSiteLaxMode, // links come by mail and chat, and who follows one again is still known
	})
}

// full says that a round has all its testers.
func (x *playRound) full() error {
	return &refusal{http.StatusConflict, fmt.Sprintf("this round has its %d testers", x.most)}
}

// late is how long after its end a round takes what was on its way.
const late = time.Hour

// takes reports whether a round takes what its testers send. What they did before its end may arrive after it.
func (h *Host) takes(x *playRound) bool {
	now, end := h.options.Now(), x.until
	if x.closed && x.ended.Before(end) {
		end = x.ended
	}
	return now.Before(end.Add(late)) && now.Before(x.forget)
}

// taking is the round of a request that brings something; it answers itself when that is not taken.
func (h *Host) taking(w http.ResponseWriter, r *http.Request) *playRound {
	x, err := h.roundBySecret(r.Context(), r.PathValue("secret"))
	switch {
	case errors.Is(err, errNoRound):
		h.refuse(w, http.StatusNotFound, "there is no such round")
	case err != nil:
		h.fail(w, err)
	case !h.takes(x):
		h.refuse(w, http.StatusGone, "this round ended too long ago")
	case !h.ours(w, r): // it has answered
	default:
		return x
	}
	return nil
}

var errNoSession = &refusal{http.StatusNotFound, "there is no such session in this round"}

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
