package playhost

import (
	"crypto/rand"
	"embed"
	"errors"
	"fmt"
	"html/template"
	"net/http"
	"net/url"
	"strings"

	"havvel/internal/hosting"
	"havvel/internal/round"
)

//go:embed pages
var pages embed.FS

var templates = template.Must(template.ParseFS(pages, "pages/*.html"))

// A visit is a request for a round's page: the round, or why it can't be played.
type visit struct {
	Title, Game, Nonce string
	Secret, at         string // at is the origin of the game
	Words              string // why it can't be played
	Locked, Wrong      bool
	Questions          []round.Question
	Controls           []round.Control
	Ends, Kept         string
	Again              bool // the tester was here before
	Invited            bool
	MostWords          int // of an answer
	Studio, Contact    string
	Reach              string // a link to the contact; "" where it is none
	Record             bool
	Isolated           bool
}

const pausedWords = "Its makers have paused this round. Come back later."

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
	case x.paused:
		h.refuse(w, http.StatusConflict, pausedWords)
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
	case x.paused:
		v.Words = pausedWords
	case !h.knows(r, x):
		v.Locked = true
	default:
		v.Again = x.tester(r) != ""
		if v.Words, err = h.unwelcome(r, x); err != nil {
			h.fail(w, err)
			return
		}
		v.Questions, v.Controls, v.Record, v.Invited, v.MostWords = x.questions, x.controls, x.record, x.invited, mostWords
		v.Studio, v.Contact, v.Reach = x.studio, x.contact, reach(x.contact)
		v.Ends, v.Kept = x.until.Format("2 January 15:04 UTC"), x.forget.Format("2 January 2006")
		// nobody is kept out for a figure
		if _, err := h.data.exec(r.Context(), "UPDATE rounds SET opens = opens + 1 WHERE id = ?", x.id); err != nil {
			h.options.Log.Warn("counting who opens a round", "error", err)
		}
		v.at = h.gamesAt(x.play)
		v.Game = v.at + "/p/" + x.play + "/"
	}
	if x != nil && !v.Locked {
		if err = h.data.row(r.Context(), "SELECT title, isolated FROM builds WHERE id = ?", x.build).Scan(&v.Title, &v.Isolated); err != nil {
			h.fail(w, err)
			return
		}
	}
	h.show(w, status, v)
}

// show writes the page of a round. Only what came with the page runs in it, and only its game is framed.
func (h *Host) show(w http.ResponseWriter, status int, v visit) {
	v.Nonce = rand.Text()
	head := w.Header()
	head.Set("Content-Type", "text/html; charset=utf-8")
	head.Set("Cache-Control", "no-store")
	head.Set(
		"Content-Security-Policy",
		fmt.Sprintf(
			"default-src 'none'; script-src 'nonce-%s'; style-src 'nonce-%s'; connect-src 'self'; form-action 'self'; frame-src %s; "+
				"frame-ancestors 'none'; base-uri 'none'",
			v.Nonce,
			v.Nonce,
			v.at,
		),
	)
	hosting.Host{Isolation: v.Isolated}.Isolate(head) // a frame is isolated only in a page that is
	w.WriteHeader(status)
	templates.ExecuteTemplate(w, "tester.html", v) // an error here is a visitor who left
}

// reach is a link to a contact: an e-mail address, or a page.
func reach(contact string) string {
	u, err := url.Parse(contact)
	switch {
	case err == nil && (u.Scheme == "https" || u.Scheme == "http") && u.Host != "":
		return contact
	case strings.Count(contact, "@") == 1 && !strings.ContainsAny(contact, " ?&/:"):
		return "mailto:" + contact
	}
	return ""
}

// unwelcome says why somebody can't take part; "" for one who can. An invitation counts that it was opened.
func (h *Host) unwelcome(r *http.Request, x *playRound) (string, error) {
	if x.invited {
		token := r.URL.Query().Get("for")
		found, err := h.data.exec(r.Context(), "UPDATE invitations SET opened = opened + 1 WHERE token = ? AND round = ?", token, x.id)
		if err = one(found, err, errNotInvited); errors.Is(err, errNotInvited) {
			return "This round is for people who were invited. Open it by the link that you got.", nil
		}
		return "", err
	}
	if x.most > 0 && x.testers >= x.most && x.tester(r) == "" {
		return x.full().Error(), nil
	}
	return "", nil
}

func (h *Host) enterRound(w http.ResponseWriter, r *http.Request) {
	x, err := h.roundBySecret(r.Context(), r.PathValue("secret"))
	if err != nil || h.over(x) {
		h.testerPage(w, r)
		return
	}
	r.Body = http.MaxBytesReader(w, r.Body, 4<<10)
	right, err := h.guess(r, x, r.PostFormValue("password"))
	switch {
	case errors.Is(err, errTooMany):
		h.show(w, http.StatusTooManyRequests, visit{Secret: x.secret, Words: errTooMany.words})
	case err != nil:
		h.fail(w, err)
	case !right:
		h.show(w, http.StatusUnauthorized, visit{Secret: x.secret, Locked: true, Wrong: true})
	default:
		h.bake(w, x, passCookie, h.pass(x))
		http.Redirect(w, r, r.URL.RequestURI(), http.StatusSeeOther)
	}
}
