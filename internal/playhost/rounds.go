package playhost

import (
	"bufio"
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"time"

	"golang.org/x/crypto/bcrypt"

	"havvel/internal/round"
)

// A playRound is a round as the host keeps it.
type playRound struct {
	id, owner, build, secret, play, password string
	made, until                              time.Time
	most                                     int
	closed                                   bool
	questions                                []round.Question
}

var errNoRound = errors.New("there is no such round")

const roundColumns = "id, owner, build, secret, play, password, made, until, most, closed, questions"

func scanRound(row interface{ Scan(...any) error }) (*playRound, error) {
	var r playRound
	var made, until int64
	var questions string
	err := row.Scan(&r.id, &r.owner, &r.build, &r.secret, &r.play, &r.password, &made, &until, &r.most, &r.closed, &questions)
	if errors.Is(err, sql.ErrNoRows) {
		return nil, errNoRound
	}
	if err == nil {
		err = json.Unmarshal([]byte(questions), &r.questions)
	}
	r.made, r.until = time.Unix(made, 0).UTC(), time.Unix(until, 0).UTC()
	return &r, err
}

// over reports whether a round has ended.
func (h *Host) over(r *playRound) bool { return r.closed || h.options.Now().After(r.until) }

// longestRound is how long a round can be open.
const longestRound = 100 * 24 * time.Hour

func (h *Host) openRound(w http.ResponseWriter, r *http.Request) {
	var in round.Opening
	if err := json.NewDecoder(http.MaxBytesReader(w, r.Body, 64<<10)).Decode(&in); err != nil {
		h.refuse(w, http.StatusBadRequest, "this is not the JSON that the host expects")
		return
	}
	b, err := h.build(r.Context(), ownerOf(r), in.Build)
	length := time.Duration(in.Seconds) * time.Second
	switch {
	case errors.Is(err, errNoBuild):
		h.refuse(w, http.StatusNotFound, "there is no such build of yours")
		return
	case err != nil:
		h.fail(w, err)
		return
	case b.State != Ready:
		h.refuse(w, http.StatusConflict, "this build is not ready; its state is "+b.State)
		return
	case length <= 0 || length > longestRound || in.Most < 0 || len(in.Questions) > 20:
		h.refuse(w, http.StatusUnprocessableEntity, "a round is open for up to 100 days, and asks up to 20 questions")
		return
	}
	for _, q := range in.Questions {
		if err := q.Verify(); err != nil {
			h.refuse(w, http.StatusUnprocessableEntity, err.Error())
			return
		}
	}
	hash := ""
	if in.Password != "" {
		sum, err := bcrypt.GenerateFromPassword([]byte(in.Password), bcrypt.DefaultCost)
		if err != nil {
			h.refuse(w, http.StatusUnprocessableEntity, "a password has up to 72 bytes")
			return
		}
		hash = string(sum)
	}
	questions, err := json.Marshal(in.Questions)
	if err != nil || in.Questions == nil {
		questions = []byte("[]")
	}
	id, secret, now := newID(), newID(), h.options.Now()
	_, err = h.data.db.ExecContext(r.Context(), "INSERT INTO rounds (id, owner, build, secret, play, made, until, most, password, questions) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?)",
		id, ownerOf(r), b.ID, secret, newID(), seconds(now), seconds(now.Add(length)), in.Most, hash, string(questions))
	if err != nil {
		h.fail(w, err)
		return
	}
	answer(w, http.StatusCreated, round.Opened{ID: id, Link: h.options.ControlURL + "/r/" + secret})
}

func (h *Host) listRounds(w http.ResponseWriter, r *http.Request) {
	rows, err := h.data.db.QueryContext(r.Context(), `SELECT rounds.id, builds.game, builds.version, rounds.secret, rounds.made, rounds.until, rounds.closed,
		(SELECT COUNT(*) FROM sessions WHERE sessions.round = rounds.id AND simulated = 0) FROM rounds JOIN builds ON builds.id = rounds.build
		WHERE rounds.owner = ? AND builds.game = ? ORDER BY rounds.made DESC, rounds.id`, ownerOf(r), r.URL.Query().Get("game"))
	if err != nil {
		h.fail(w, err)
		return
	}
	defer rows.Close()
	list := []round.Round{}
	for rows.Next() {
		var x round.Round
		var secret, game string
		var made, until int64
		var closed bool
		if err := rows.Scan(&x.ID, &game, &x.Version, &secret, &made, &until, &closed, &x.Sessions); err != nil {
			h.fail(w, err)
			return
		}
		x.Link, x.Opened, x.Until = h.options.ControlURL+"/r/"+secret, time.Unix(made, 0).UTC(), time.Unix(until, 0).UTC()
		x.Open = !closed && h.options.Now().Before(x.Until)
		list = append(list, x)
	}
	if err := rows.Err(); err != nil {
		h.fail(w, err)
		return
	}
	answer(w, http.StatusOK, map[string]any{"rounds": list})
}

// ownRound is a round of whoever asks; it answers itself when there is none.
func (h *Host) ownRound(w http.ResponseWriter, r *http.Request) *playRound {
	x, err := scanRound(h.data.db.QueryRowContext(r.Context(), "SELECT "+roundColumns+" FROM rounds WHERE id = ? AND owner = ?", r.PathValue("id"), ownerOf(r)))
	if errors.Is(err, errNoRound) {
		h.refuse(w, http.StatusNotFound, "there is no such round of yours")
		return nil
	}
	if err != nil {
		h.fail(w, err)
		return nil
	}
	return x
}

// closeRound ends a round at once: its page, its game and its events are refused from the next request on.
func (h *Host) closeRound(w http.ResponseWriter, r *http.Request) {
	x := h.ownRound(w, r)
	if x == nil {
		return
	}
	if _, err := h.data.db.ExecContext(r.Context(), "UPDATE rounds SET closed = 1 WHERE id = ?", x.id); err != nil {
		h.fail(w, err)
		return
	}
	answer(w, http.StatusOK, map[string]bool{"open": false})
}

// exportRound writes all that came back of a round as JSON Lines, session by session, in the order in which it happened.
func (h *Host) exportRound(w http.ResponseWriter, r *http.Request) {
	x := h.ownRound(w, r)
	if x == nil {
		return
	}
	rows, err := h.data.db.QueryContext(r.Context(), `SELECT sessions.id, sessions.made, sessions.device, sessions.simulated, events.n, events.at, events.kind, events.data
		FROM sessions LEFT JOIN events ON events.session = sessions.id WHERE sessions.round = ? ORDER BY sessions.made, sessions.id, events.n`, x.id)
	if err != nil {
		h.fail(w, err)
		return
	}
	defer rows.Close()
	w.Header().Set("Content-Type", "application/jsonl")
	w.Header().Set("Cache-Control", "no-store")
	out := bufio.NewWriter(w)
	defer out.Flush()
	lines := json.NewEncoder(out)
	last := ""
	for rows.Next() {
		var s round.Line
		var made int64
		var device string
		var n, at sql.NullInt64
		var kind, data sql.NullString
		if err := rows.Scan(&s.Session, &made, &device, &s.Simulated, &n, &at, &kind, &data); err != nil {
			h.options.Log.Error("exporting a round", "error", err)
			return
		}
		if s.Session != last {
			last = s.Session
			opened := time.Unix(made, 0).UTC()
			lines.Encode(round.Line{Format: round.Format, Session: s.Session, Opened: &opened, Device: json.RawMessage(device), Simulated: s.Simulated})
		}
		if kind.Valid {
			lines.Encode(round.Line{Session: s.Session, N: int(n.Int64), At: at.Int64, Kind: kind.String, Data: json.RawMessage(data.String)})
		}
	}
}

// roundBySecret is the round of a link.
func (h *Host) roundBySecret(ctx context.Context, secret string) (*playRound, error) {
	return scanRound(h.data.db.QueryRowContext(ctx, "SELECT "+roundColumns+" FROM rounds WHERE secret = ?", secret))
}

// full says why nobody more can take part; "" when somebody can.
func (h *Host) full(ctx context.Context, x *playRound) (string, error) {
	if x.most == 0 {
		return "", nil
	}
	var n int
	err := h.data.db.QueryRowContext(ctx, "SELECT COUNT(*) FROM sessions WHERE round = ? AND simulated = 0", x.id).Scan(&n)
	if err == nil && n >= x.most {
		return fmt.Sprintf("this round has its %d testers", x.most), nil
	}
	return "", err
}
