package playhost

import (
	"crypto/hmac"
	"crypto/rand"
	"crypto/sha256"
	"database/sql"
	"embed"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"html/template"
	"net/http"
	"slices"
	"sync"
	"time"

	"golang.org/x/crypto/bcrypt"

	"havvel/internal/round"
)

//go:embed pages
var pages embed.FS

var templates = template.Must(template.ParseFS(pages, "pages/*.html"))

// What one session may send.
const (
	mostEvents = 20_000
	mostBatch  = 200
	mostData   = 4 << 10 // bytes of one event
	mostAsked  = 256 << 10
)

// kinds are those of events that a page sends.
var kinds = []string{"moment", "shown", "frames", "error", "answer", "left"}

// A visit is a request for a round's page: the round, or why it can't be played.
type visit struct {
	Title, Game, Nonce string
	Secret             string
	Words              string // why it can't be played
	Locked, Wrong      bool
	Questions          []round.Question
	Ends               string
}

// open is the round of a request, if it is open; it answers itself when not.
func (h *Host) open(w http.ResponseWriter, r *http.Request) *playRound {
	x, err := h.roundBySecret(r.Context(), r.PathValue("secret"))
	switch {
	case errors.Is(err, errNoRound):
		h.refuse(w, http.StatusNotFound, "there is no such round")
	case err != nil:
		h.fail(w, err)
	case h.over(x):
		h.refuse(w, http.StatusGone, "this round is over")
	case !h.knows(r, x):
		h.refuse(w, http.StatusUnauthorized, "this round has a password")
	default:
		return x
	}
	return nil
}

func (h *Host) testerPage(w http.ResponseWriter, r *http.Request) {
	x, err := h.roundBySecret(r.Context(), r.PathValue("secret"))
	v := visit{Secret: r.PathValue("secret")}
	status := http.StatusOK
	switch {
	case errors.Is(err, errNoRound):
		v.Words, status = "There is no such round here. Was the link copied whole?", http.StatusNotFound
	case err != nil:
		h.fail(w, err)
		return
	case h.over(x):
		v.Words, status = "This round is over. Thank you for looking in.", http.StatusGone
	case !h.knows(r, x):
		v.Locked = true
	default:
		if v.Words, err = h.full(r.Context(), x); err != nil {
			h.fail(w, err)
			return
		}
		v.Questions, v.Ends = x.questions, x.until.Format("2 January 15:04 UTC")
		v.Game = h.options.GamesURL + "/p/" + x.play + "/"
	}
	if x != nil && !v.Locked {
		if v.Title, err = h.titleOf(r, x); err != nil {
			h.fail(w, err)
			return
		}
	}
	h.show(w, status, v)
}

func (h *Host) titleOf(r *http.Request, x *playRound) (title string, err error) {
	err = h.data.db.QueryRowContext(r.Context(), "SELECT title FROM builds WHERE id = ?", x.build).Scan(&title)
	return title, err
}

// show writes the page of a round. Only what came with the page runs in it, and only its game is framed.
func (h *Host) show(w http.ResponseWriter, status int, v visit) {
	v.Nonce = rand.Text()
	head := w.Header()
	head.Set("Content-Type", "text/html; charset=utf-8")
	head.Set("Cache-Control", "no-store")
	head.Set("Content-Security-Policy", fmt.Sprintf("default-src 'none'; script-src 'nonce-%s'; style-src 'nonce-%s'; connect-src 'self'; form-action 'self'; frame-src %s; frame-ancestors 'none'; base-uri 'none'", v.Nonce, v.Nonce, h.options.GamesURL))
	w.WriteHeader(status)
	templates.ExecuteTemplate(w, "tester.html", v) // an error here is a visitor who left
}

// attempts bounds how often a round's password is guessed.
type attempts struct {
	mu    sync.Mutex
	list  map[string]int
	since time.Time
}

// mostGuesses is how many wrong passwords a round takes in a minute, from all sides together.
const mostGuesses = 10

func (a *attempts) allowed(name string, now time.Time) bool {
	a.mu.Lock()
	defer a.mu.Unlock()
	if now.Sub(a.since) > time.Minute {
		a.list, a.since = map[string]int{}, now
	}
	a.list[name]++
	return a.list[name] <= mostGuesses
}

func (h *Host) enterRound(w http.ResponseWriter, r *http.Request) {
	x, err := h.roundBySecret(r.Context(), r.PathValue("secret"))
	if err != nil || h.over(x) {
		h.testerPage(w, r)
		return
	}
	r.Body = http.MaxBytesReader(w, r.Body, 4<<10)
	if !h.guesses.allowed(x.id, h.options.Now()) {
		h.show(w, http.StatusTooManyRequests, visit{Secret: x.secret, Words: "Too many wrong passwords. Wait a minute, and try again."})
		return
	}
	if bcrypt.CompareHashAndPassword([]byte(x.password), []byte(r.PostFormValue("password"))) != nil {
		h.show(w, http.StatusUnauthorized, visit{Secret: x.secret, Locked: true, Wrong: true})
		return
	}
	http.SetCookie(w, &http.Cookie{Name: "round", Value: h.pass(x), Path: "/r/" + x.secret, HttpOnly: true, SameSite: http.SameSiteStrictMode, Secure: h.options.secure()})
	http.Redirect(w, r, "/r/"+x.secret, http.StatusSeeOther)
}

// pass is what somebody has who knew the password.
func (h *Host) pass(x *playRound) string {
	m := hmac.New(sha256.New, []byte(x.password))
	m.Write([]byte(x.id))
	return hex.EncodeToString(m.Sum(nil))
}

func (h *Host) knows(r *http.Request, x *playRound) bool {
	if x.password == "" {
		return true
	}
	cookie, err := r.Cookie("round")
	return err == nil && hmac.Equal([]byte(cookie.Value), []byte(h.pass(x)))
}

// ours refuses requests that another page made a browser send (the Fetch Metadata headers, and Origin where there are none).
func (h *Host) ours(w http.ResponseWriter, r *http.Request) bool {
	site, origin := r.Header.Get("Sec-Fetch-Site"), r.Header.Get("Origin")
	if site != "" && site != "same-origin" || site == "" && origin != "" && origin != h.options.ControlURL {
		h.refuse(w, http.StatusForbidden, "only the round's own page sends this")
		return false
	}
	return true
}

// beginSession takes note of a tester who agreed to be watched.
func (h *Host) beginSession(w http.ResponseWriter, r *http.Request) {
	x := h.open(w, r)
	if x == nil || !h.ours(w, r) {
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
		_, err = h.data.db.ExecContext(r.Context(), "INSERT INTO sessions (id, round, made, device, simulated) VALUES (?, ?, ?, ?, ?)", id, x.id, seconds(h.options.Now()), string(device), in.Simulated)
	}
	if err != nil {
		h.fail(w, err)
		return
	}
	answer(w, http.StatusCreated, map[string]string{"session": id})
}

// takeEvents keeps a batch. An event that came before is kept once.
func (h *Host) takeEvents(w http.ResponseWriter, r *http.Request) {
	x := h.open(w, r)
	if x == nil || !h.ours(w, r) {
		return
	}
	var in struct {
		Events []struct {
			N    int             `json:"n"`
			At   int64           `json:"at"`
			Kind string          `json:"kind"`
			Data json.RawMessage `json:"data"`
		}
	}
	if err := json.NewDecoder(http.MaxBytesReader(w, r.Body, mostAsked)).Decode(&in); err != nil || len(in.Events) > mostBatch {
		h.refuse(w, http.StatusBadRequest, "these are no events")
		return
	}
	for _, e := range in.Events {
		if e.N < 1 || e.N > mostEvents || e.At < 0 || len(e.Data) > mostData || !slices.Contains(kinds, e.Kind) {
			h.refuse(w, http.StatusBadRequest, "an event is not one that is taken")
			return
		}
	}
	err := h.data.within(r.Context(), func(tx *sql.Tx) error {
		var of string
		err := tx.QueryRow("SELECT round FROM sessions WHERE id = ?", r.PathValue("id")).Scan(&of)
		if errors.Is(err, sql.ErrNoRows) || err == nil && of != x.id {
			return &refusal{http.StatusNotFound, "there is no such session in this round"}
		}
		if err != nil {
			return err
		}
		for _, e := range in.Events {
			data := string(e.Data)
			if data == "" {
				data = "null"
			}
			if _, err := tx.Exec("INSERT INTO events (session, n, at, kind, data) VALUES (?, ?, ?, ?, ?) ON CONFLICT DO NOTHING", r.PathValue("id"), e.N, e.At, e.Kind, data); err != nil {
				return err
			}
		}
		return nil
	})
	if err != nil {
		h.fail(w, err)
		return
	}
	answer(w, http.StatusOK, map[string]int{"kept": len(in.Events)})
}

// forgetSession takes a session back, with all that came of it.
func (h *Host) forgetSession(w http.ResponseWriter, r *http.Request) {
	x, err := h.roundBySecret(r.Context(), r.PathValue("secret")) // also when the round is over
	if errors.Is(err, errNoRound) || err == nil && !h.ours(w, r) {
		h.refuse(w, http.StatusNotFound, "there is no such round")
		return
	}
	if err == nil {
		err = h.data.within(r.Context(), func(tx *sql.Tx) error {
			gone, err := tx.Exec("DELETE FROM sessions WHERE id = ? AND round = ?", r.PathValue("id"), x.id)
			if err != nil {
				return err
			}
			if n, err := gone.RowsAffected(); err != nil || n == 0 {
				return errors.Join(&refusal{http.StatusNotFound, "there is no such session"}, err)
			}
			_, err = tx.Exec("DELETE FROM events WHERE session = ?", r.PathValue("id"))
			return err
		})
	}
	if err != nil {
		h.fail(w, err)
		return
	}
	w.WriteHeader(http.StatusNoContent)
}
