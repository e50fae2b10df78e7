package playhost

import (
	"crypto/hmac"
	"crypto/sha256"
	"encoding/hex"
	"net/http"
	"time"

	"golang.org/x/crypto/bcrypt"
)

// How many wrong passwords a minute takes: from one address, and for a round in all. Right ones are never counted, so that a class behind
// one address gets in.
const (
	wrongOfOne = 10
	wrongInAll = 200
)

var errTooMany = &refusal{http.StatusTooManyRequests, "too many wrong passwords came from here"}

// guess reports whether a password is the round's, and counts it where it isn't. The counts are in the database, so that all hosts agree.
func (h *Host) guess(r *http.Request, x *playRound, word string) (right bool, err error) {
	ctx, now := r.Context(), h.options.Now()
	who, minute := x.sign(h.options.visitor(r)), now.Truncate(time.Minute).Unix()
	var mine, all int
	err = h.data.row(ctx, `SELECT COALESCE(SUM(CASE WHEN who = ? THEN times ELSE 0 END), 0), COALESCE(SUM(times), 0) FROM guesses
		WHERE round = ? AND since = ?`, who, x.id, minute).Scan(&mine, &all)
	if err != nil {
		return false, err
	}
	if mine >= wrongOfOne || all >= wrongInAll {
		return false, errTooMany
	}
	select { // each takes a core for a while
	case h.comparing <- struct{}{}:
		defer func() { <-h.comparing }()
	case <-ctx.Done():
		return false, ctx.Err()
	}
	if bcrypt.CompareHashAndPassword([]byte(x.password), []byte(word)) == nil {
		return true, nil
	}
	_, err = h.data.exec(ctx, `INSERT INTO guesses (round, who, since, times) VALUES (?, ?, ?, 1)
		ON CONFLICT (round, who, since) DO UPDATE SET times = guesses.times + 1`, x.id, who, minute)
	return false, err
}

// passCookie is what somebody has who knew the password.
const passCookie = "round"

func (h *Host) pass(x *playRound) string {
	m := hmac.New(sha256.New, []byte(x.password))
	m.Write([]byte(x.id))
	return hex.EncodeToString(m.Sum(nil))
}

func (h *Host) knows(r *http.Request, x *playRound) bool {
	if x.password == "" {
		return true
	}
	for _, c := range r.CookiesNamed(passCookie) { // other pages of the domain may have set one, too
		if hmac.Equal([]byte(c.Value), []byte(h.pass(x))) {
			return true
		}
	}
	return false
}
