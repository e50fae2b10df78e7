package standin

import (
	"crypto/hmac"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"io"
	"net/http"
	"strconv"
	"strings"
	"time"

	"havvel/internal/atomicfile"
	"havvel/internal/disk"
)

// A reviewing portal's words for the state of a submission.
const (
	arriving = "arriving" // parts are missing
	looking  = "looking"  // a program looks at it
	queued   = "queued"   // people will
	accepted = "accepted"
	declined = "declined"
	showing  = "showing"
	earlier  = "earlier" // was shown
	off      = "off"     // was shown, and was taken off
)

func (a *Portal) deskRoutes(mux *http.ServeMux) {
	mux.HandleFunc("PUT /v1/games/{short}", a.paired(a.putGame))
	mux.HandleFunc("POST /v1/games/{short}/submissions", a.paired(a.submit))
	mux.HandleFunc("PUT /v1/store/{id}/{part}", a.store)
	mux.HandleFunc("POST /v1/submissions/{id}/complete", a.paired(a.complete))
	mux.HandleFunc("GET /v1/submissions/{id}", a.paired(a.showSubmission))
	mux.HandleFunc("POST /v1/submissions/{id}/show", a.paired(a.setSubmission(showing)))
	mux.HandleFunc("POST /v1/submissions/{id}/off", a.paired(a.setSubmission(off)))
	mux.HandleFunc("GET /desk", a.desk)
	mux.HandleFunc("POST /desk/{id}", a.decide)
}

// paired lets in clients with the key pair (RFC 7617).
func (a *Portal) paired(next http.HandlerFunc) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		if id, secret, ok := r.BasicAuth(); !ok || id == "" || !same(secret, a.options.Token) {
			refuse(w, http.StatusUnauthorized, "this key pair is not one of ours")
			return
		}
		next(w, r)
	}
}

// signed is an address that lets anybody who has it store one part, for an hour. It is on another host, as with real stores.
func (a *Portal) signed(r *http.Request, id, part string) string {
	until := strconv.FormatInt(time.Now().Add(time.Hour).Unix(), 10)
	return fmt.Sprintf("http://%s/v1/store/%s/%s?until=%s&signature=%s", otherHost(r.Host), id, part, until, a.signature(id, part, until))
}

func (a *Portal) signature(id, part, until string) string {
	m := hmac.New(sha256.New, a.secret)
	fmt.Fprintf(m, "%s %s %s", id, part, until)
	return hex.EncodeToString(m.Sum(nil))
}

func (a *Portal) submit(w http.ResponseWriter, r *http.Request) {
	var in struct {
		Version     string
		Entry, Rest arrival
	}
	if !readJSON(w, r, &in) {
		return
	}
	v := &version{
		ID:      newID(),
		Game:    r.PathValue("short"),
		Version: in.Version,
		State:   arriving,
		Secret:  newID() + newID(),
		Made:    time.Now().UTC(),
		Entry:   &in.Entry,
		Rest:    &in.Rest,
	}
	v.Entry.Here, v.Rest.Here = false, false
	err := a.change(func(s *state) error {
		switch {
		case s.Games[v.Game] == nil:
			return &no{http.StatusNotFound, "there is no game " + v.Game + " here"}
		case v.Version == "" || v.Entry.Bytes <= 0 || v.Rest.Bytes <= 0 || v.Rest.Bytes > 200_000_000:
			return &no{http.StatusUnprocessableEntity, "a submission names its version, and the size of both parts"}
		}
		s.Versions[v.ID] = v
		return nil
	})
	if err != nil {
		answerError(w, err)
		return
	}
	answer(w, http.StatusCreated, map[string]string{"id": v.ID, "entry": a.signed(r, v.ID, "entry"), "rest": a.signed(r, v.ID, "rest")})
}

func (a *Portal) partFile(id, part string) string {
	if part == "rest" {
		return a.archive(id)
	}
	return strings.TrimSuffix(a.archive(id), ".zip") + ".html"
}

// store takes a part at a signed address.
func (a *Portal) store(w http.ResponseWriter, r *http.Request) {
	id, part, q := r.PathValue("id"), r.PathValue("part"), r.URL.Query()
	until, err := strconv.ParseInt(q.Get("until"), 10, 64)
	if err != nil || !same(q.Get("signature"), a.signature(id, part, q.Get("until"))) || time.Now().Unix() > until {
		refuse(w, http.StatusForbidden, "this address is not signed by us, or its time is over")
		return
	}
	v, ok := a.versionByID(id)
	if !ok || v.State != arriving || part != "entry" && part != "rest" {
		refuse(w, http.StatusConflict, "this part is here already")
		return
	}
	want := map[string]*arrival{"entry": v.Entry, "rest": v.Rest}[part]
	hash := sha256.New()
	err = atomicfile.File(a.partFile(id, part), func(f disk.File) error {
		n, err := io.Copy(io.MultiWriter(f, hash), io.LimitReader(r.Body, want.Bytes+1))
		if err != nil || n != want.Bytes {
			return &no{http.StatusBadRequest, fmt.Sprintf("the part has %d bytes instead of %d", n, want.Bytes)}
		}
		if hex.EncodeToString(hash.Sum(nil)) != want.SHA256 || a.options.Fault == WrongChecksum && a.first("checksum") {
			return &no{http.StatusServiceUnavailable, "the part arrived damaged; send it again"}
		}
		return nil
	})
	if err == nil {
		err = a.change(func(s *state) error {
			now := s.Versions[id]
			map[string]*arrival{"entry": now.Entry, "rest": now.Rest}[part].Here = true
			return nil
		})
	}
	if err != nil {
		answerError(w, err)
		return
	}
	w.WriteHeader(http.StatusOK)
}

func (a *Portal) complete(w http.ResponseWriter, r *http.Request) {
	id := r.PathValue("id")
	again := false
	err := a.change(func(s *state) error {
		v := s.Versions[id]
		switch {
		case v == nil:
			return &no{http.StatusNotFound, "there is no such submission"}
		case v.State != arriving:
			again = true
		case !v.Entry.Here || !v.Rest.Here:
			return &no{http.StatusConflict, "a part is missing"}
		default:
			v.State = looking
		}
		return nil
	})
	if err != nil {
		answerError(w, err)
		return
	}
	if !again {
		a.verifyLater(id)
	}
	answer(w, http.StatusAccepted, map[string]string{"state": looking})
}

func (a *Portal) showSubmission(w http.ResponseWriter, r *http.Request) {
	v, ok := a.versionByID(r.PathValue("id"))
	if !ok {
		refuse(w, http.StatusNotFound, "there is no such submission")
		return
	}
	out := map[string]any{"id": v.ID, "version": v.Version, "state": v.State, "problems": v.Problems}
	switch v.State {
	case queued, accepted:
		out["try"] = "http://" + r.Host + "/draft/" + v.Secret
	case showing:
		out["page"] = a.pageAddress(r, v.Game)
	}
	answer(w, http.StatusOK, out)
}

func (a *Portal) setSubmission(to string) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		short := ""
		err := a.change(func(s *state) error {
			v := s.Versions[r.PathValue("id")]
			if v == nil {
				return &no{http.StatusNotFound, "there is no such submission"}
			}
			if to == showing && v.State != accepted && v.State != earlier && v.State != off && v.State != showing {
				return &no{http.StatusConflict, "only what was accepted can be shown; this one is " + v.State}
			}
			g := s.Games[v.Game]
			if before := s.Versions[g.Live]; before != nil && before != v {
				before.State = earlier
			}
			g.Live, v.State, short = v.ID, to, v.Game
			if to == off {
				g.Live = ""
			}
			return nil
		})
		if err != nil {
			answerError(w, err)
			return
		}
		out := map[string]string{"state": to}
		if to == showing {
			out["page"] = a.pageAddress(r, short)
		}
		answer(w, http.StatusOK, out)
	}
}

// desk is the page where a person accepts or refuses.
func (a *Portal) desk(w http.ResponseWriter, _ *http.Request) {
	type row struct {
		version
		Title, Studio string
	}
	var data struct {
		Portal        string
		Waiting, Past []row
	}
	data.Portal = a.options.Name
	a.mu.Lock()
	for _, v := range a.state.Versions {
		g := a.state.Games[v.Game]
		switch v.State {
		case queued:
			data.Waiting = append(data.Waiting, row{*v, g.Title, g.Studio})
		case accepted, declined, showing:
			data.Past = append(data.Past, row{*v, g.Title, g.Studio})
		}
	}
	a.mu.Unlock()
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	w.Header().Set("Cache-Control", "no-store")
	templates.ExecuteTemplate(w, "desk.html", data) // an error here is a visitor who left
}

func (a *Portal) decide(w http.ResponseWriter, r *http.Request) {
	err := a.change(func(s *state) error {
		v := s.Versions[r.PathValue("id")]
		if v == nil || v.State != queued {
			return &no{http.StatusConflict, "it does not wait for a decision"}
		}
		if r.PostFormValue("say") == "accept" {
			v.State = accepted
			return nil
		}
		v.State = declined
		for line := range strings.Lines(r.PostFormValue("reasons")) {
			if line = strings.TrimSpace(line); line != "" {
				v.Problems = append(v.Problems, problem{Words: line})
			}
		}
		if len(v.Problems) == 0 {
			return &no{http.StatusUnprocessableEntity, "a refusal needs a reason"}
		}
		return nil
	})
	if err != nil {
		answerError(w, err)
		return
	}
	http.Redirect(w, r, "/desk", http.StatusSeeOther)
}
