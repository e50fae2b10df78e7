package playhost

import (
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
	made, until, forget, ended               time.Time
	most                                     int
	testers                                  int
	closed, record, invited, paused          bool
	studio, contact, webhook                 string
	texts                                    []round.Translation
	questions                                []round.Question
	controls                                 []round.Control
}

var errNoRound = errors.New("there is no such round")

const roundColumns = "id, owner, build, secret, play, password, made, until, forget, most, closed, record, questions, controls, ended, " +
	"testers, invited, paused, studio, contact, texts, webhook"

func scanRound(row interface{ Scan(...any) error }) (*playRound, error) {
	var r playRound
	var made, until, forget, ended int64
	var questions, controls, translations string
	err := row.Scan(
		&r.id,
		&r.owner,
		&r.build,
		&r.secret,
		&r.play,
		&r.password,
		&made,
		&until,
		&forget,
		&r.most,
		&r.closed,
		&r.record,
		&questions,
		&controls,
		&ended,
		&r.testers,
		&r.invited,
		&r.paused,
		&r.studio,
		&r.contact,
		&translations,
		&r.webhook,
	)
	if errors.Is(err, sql.ErrNoRows) {
		return nil, errNoRound
	}
	if err == nil {
		err = errors.Join(json.Unmarshal([]byte(questions), &r.questions), json.Unmarshal([]byte(controls), &r.controls),
			json.Unmarshal([]byte(translations), &r.texts))
	}
	r.made, r.until, r.forget = time.Unix(made, 0).UTC(), time.Unix(until, 0).UTC(), time.Unix(forget, 0).UTC()
	r.ended = time.Unix(ended, 0).UTC()
	return &r, err
}

// over reports whether a round has ended.
func (h *Host) over(r *playRound) bool { return r.closed || h.options.Now().After(r.until) }

// longestRound is how long a round can be open.
const longestRound = 100 * 24 * time.Hour

func (h *Host) openRound(w http.ResponseWriter, r *http.Request) {
	var in round.Opening
	if err := json.NewDecoder(http.MaxBytesReader(w, r.Body, 4<<20)).Decode(&in); err != nil {
		h.refuse(w, http.StatusBadRequest, "this is not the JSON that the host expects")
		return
	}
	out, err := h.newRound(r.Context(), ownerOf(r), &in)
	if err != nil {
		h.fail(w, err)
		return
	}
	answer(w, http.StatusCreated, out)
}

// allowed says what is wrong with an opening.
func (h *Host) allowed(ctx context.Context, owner string, in *round.Opening) error {
	b, err := h.build(ctx, owner, in.Build)
	switch {
	case errors.Is(err, errNoBuild):
		return &refusal{http.StatusNotFound, "there is no such build of yours"}
	case err != nil:
		return err
	case b.State != Ready:
		return &refusal{http.StatusConflict, "this build is not ready; its state is " + b.State}
	}
	if why := h.within(in); why != "" {
		return &refusal{http.StatusUnprocessableEntity, why}
	}
	if err := round.VerifyTranslations(in.Texts); err != nil {
		return &refusal{http.StatusUnprocessableEntity, err.Error()}
	}
	if err := h.hooked(in.Webhook); err != nil {
		return err
	}
	if err := invitable(in.Invited); err != nil {
		return err
	}
	for _, q := range in.Questions {
		if err := q.Verify(); err != nil {
			return &refusal{http.StatusUnprocessableEntity, err.Error()}
		}
	}
	return nil
}

// within says which limit of the host an opening is beyond; "" for none.
func (h *Host) within(in *round.Opening) string {
	length := time.Duration(in.Seconds) * time.Second
	switch {
	case length <= 0 || length > longestRound || in.Most < 0 || len(in.Questions) > 20 || len(in.Controls) > 60:
		return "a round is open for up to 100 days, asks up to 20 questions, and shows up to 60 controls"
	case in.Keep < 0 || time.Duration(in.Keep)*time.Second > h.options.Keep:
		return fmt.Sprintf("this host keeps what came back for up to %d days after a round", int(h.options.Keep/(24*time.Hour)))
	case cut(in.Studio, mostName) != in.Studio || cut(in.Contact, mostName) != in.Contact:
		return fmt.Sprintf("studio and contact have up to %d characters", mostName)
	case len(in.Password) > 72:
		return "a password has up to 72 bytes"
	}
	return ""
}

func (h *Host) newRound(ctx context.Context, owner string, in *round.Opening) (*round.Opened, error) {
	if err := h.allowed(ctx, owner, in); err != nil {
		return nil, err
	}
	hash := ""
	if in.Password != "" {
		sum, err := bcrypt.GenerateFromPassword([]byte(in.Password), bcrypt.DefaultCost)
		if err != nil {
			return nil, err
		}
		hash = string(sum)
	}
	lists := []any{
		append([]round.Question{}, in.Questions...), append([]round.Control{}, in.Controls...), append([]round.Translation{}, in.Texts...),
	}
	for i, list := range lists {
		text, err := json.Marshal(list)
		if err != nil {
			return nil, err
		}
		lists[i] = string(text)
	}
	keep := h.options.Keep
	if in.Keep > 0 {
		keep = time.Duration(in.Keep) * time.Second
	}
	id, secret, now := newID(), newID(), h.options.Now()
	until := now.Add(time.Duration(in.Seconds) * time.Second)
	out := &round.Opened{ID: id, Link: h.options.ControlURL + "/r/" + secret, Until: until.UTC(), Kept: until.Add(keep).UTC()}
	values := []any{
		id, owner, in.Build, secret, newID(), seconds(now), seconds(until), seconds(until.Add(keep)), in.Most, hash, flag(in.Record),
		lists[0], lists[1], flag(len(in.Invited) > 0), in.Studio, in.Contact, lists[2], in.Webhook, fraction(now),
	}
	return out, h.data.within(ctx, func(q queries) error {
		_, err := q.exec(ctx, "INSERT INTO rounds (id, owner, build, secret, play, made, until, forget, most, password, record, questions, "+
			"controls, invited, studio, contact, texts, webhook, fraction) "+
			"VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)", values...)
		if err == nil {
			out.Invitations, err = h.invite(ctx, q, id, out.Link, in.Invited)
		}
		return err
	})
}

func (h *Host) listRounds(w http.ResponseWriter, r *http.Request) {
	rows, err := h.data.query(
		r.Context(),
		`SELECT rounds.id, builds.game, builds.version, rounds.secret, rounds.made, rounds.until, rounds.forget, rounds.closed, `+
			`rounds.opens, rounds.questions, rounds.testers, rounds.simulated, rounds.paused FROM rounds JOIN builds ON builds.id = rounds.build
		WHERE rounds.owner = ? AND builds.game = ? ORDER BY rounds.made DESC, rounds.fraction DESC`,
		ownerOf(r),
		r.URL.Query().Get("game"),
	)
	if err != nil {
		h.fail(w, err)
		return
	}
	defer rows.Close()
	list := []round.Round{}
	for rows.Next() {
		var x round.Round
		var secret, game, questions string
		var made, until, forget int64
		var closed bool
		if err := rows.Scan(&x.ID, &game, &x.Version, &secret, &made, &until, &forget, &closed, &x.Opens, &questions, &x.Sessions,
			&x.Simulated, &x.Paused); err != nil {
			h.fail(w, err)
			return
		}
		x.Link, x.Opened, x.Until = h.options.ControlURL+"/r/"+secret, time.Unix(made, 0).UTC(), time.Unix(until, 0).UTC()
		x.Kept = time.Unix(forget, 0).UTC()
		if err := json.Unmarshal([]byte(questions), &x.Questions); err != nil {
			h.fail(w, err)
			return
		}
		x.Open = !closed && h.options.Now().Before(x.Until)
		list = append(list, x)
	}
	if err := rows.Err(); err != nil {
		h.fail(w, err)
		return
	}
	answer(w, http.StatusOK, map[string]any{"rounds": list})
}

// ownRound is a round of the owner who asks; it answers itself when there is none.
func (h *Host) ownRound(w http.ResponseWriter, r *http.Request) *playRound {
	x, err := scanRound(
		h.data.row(r.Context(), "SELECT "+roundColumns+" FROM rounds WHERE id = ? AND owner = ?", r.PathValue("id"), ownerOf(r)),
	)
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

// roundBySecret is the round of a link.
func (h *Host) roundBySecret(ctx context.Context, secret string) (*playRound, error) {
	return scanRound(h.data.row(ctx, "SELECT "+roundColumns+" FROM rounds WHERE secret = ?", secret))
}
