package playhost

import (
	"crypto/rand"
	"embed"
	"errors"
	"fmt"
	"html/template"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"time"

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
	Say                map[string]string // what the page says, by round.Texts
	Language           string
	Direction          string
	Again              bool // the tester was here before
	Invited            bool
	MostWords          int // of an answer
	Studio, Contact    string
	Reach              string // a link to the contact; "" where it is none
	Record             bool
	Isolated           bool
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
	case x.paused:
		h.refuse(w, http.StatusConflict, "this round is paused")
	case !h.knows(r, x):
		h.refuse(w, http.StatusUnauthorized, "this round has a password")
	default:
		return x
	}
	return nil
}

func (h *Host) testerPage(w http.ResponseWriter, r *http.Request) {
	x, err := h.roundBySecret(r.Context(), r.PathValue("secret"))
	v := h.visitOf(r, x)
	status := http.StatusOK
	switch {
	case errors.Is(err, errNoRound):
		v.Words, status = v.Say["no_round"], http.StatusNotFound
	case err != nil:
		h.fail(w, err)
		return
	case h.over(x):
		v.Words, status = v.Say["over"], http.StatusGone
	case x.paused:
		v.Words = v.Say["paused"]
	case !h.knows(r, x):
		v.Locked = true
	default:
		v.Again = x.tester(r) != ""
		why, err := h.unwelcome(r, x)
		if err != nil {
			h.fail(w, err)
			return
		}
		v.Words = v.Say[why]
		v.Questions, v.Controls, v.Record, v.Invited, v.MostWords = x.questions, x.controls, x.record, x.invited, mostWords
		v.Studio, v.Contact, v.Reach = x.studio, x.contact, reach(x.contact)
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

// visitOf is a request for a round's page, in a language of who asks. There may be no round.
func (h *Host) visitOf(r *http.Request, x *playRound) visit {
	var list []round.Translation
	fill := []string{"{characters}", strconv.Itoa(mostWords)}
	if x != nil {
		list = x.texts
	}
	t := round.Choose(list, r.Header.Get("Accept-Language"))
	if x != nil {
		ends, day, apart := "2 January 15:04 UTC", "2 January 2006", func(words string) string { return words }
		if t.Language != "en" {
			ends, day, apart = "2006-01-02 15:04 UTC", time.DateOnly, isolated
		}
		fill = append(fill, "{studio}", apart(x.studio), "{most}", strconv.Itoa(x.most), "{time}", apart(x.until.Format(ends)),
			"{day}", apart(x.forget.Format(day)))
	}
	return visit{
		Secret: r.PathValue("secret"), Say: t.Say(strings.NewReplacer(fill...)), Language: t.Language, Direction: t.Direction(),
	}
}

// isolated keeps words in their own direction within a sentence of another one (Unicode's first strong isolate).
func isolated(words string) string { return "\u2068" + words + "\u2069" }

// unwelcome names the text that says why somebody can't take part; "" for one who can. An invitation counts that it was opened.
func (h *Host) unwelcome(r *http.Request, x *playRound) (string, error) {
	if x.invited {
		token := r.URL.Query().Get("for")
		found, err := h.data.exec(r.Context(), "UPDATE invitations SET opened = opened + 1 WHERE token = ? AND round = ?", token, x.id)
		if err = one(found, err, errNotInvited); errors.Is(err, errNotInvited) {
			return "not_invited", nil
		}
		return "", err
	}
	if x.most > 0 && x.testers >= x.most && x.tester(r) == "" {
		return "full", nil
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
		v := h.visitOf(r, x)
		v.Words = v.Say["too_many"]
		h.show(w, http.StatusTooManyRequests, v)
	case err != nil:
		h.fail(w, err)
	case !right:
		v := h.visitOf(r, x)
		v.Locked, v.Wrong = true, true
		h.show(w, http.StatusUnauthorized, v)
	default:
		h.bake(w, x, passCookie, h.pass(x))
		http.Redirect(w, r, r.URL.RequestURI(), http.StatusSeeOther)
	}
}
