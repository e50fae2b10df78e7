package standin

import (
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"io"
	"mime/multipart"
	"net/http"
	"os"
	"strings"
	"time"

	"havvel/internal/atomicfile"
	"havvel/internal/disk"
)

// A page host's words for the state of a build.
const (
	hidden = "hidden" // its owner sees it
	some   = "some"   // those with the password see it
	open   = "open"
	older  = "older" // was open
	shut   = "shut"  // was open, and was taken off
)

func (a *Portal) pagesRoutes(mux *http.ServeMux) {
	mux.HandleFunc("POST /api/login", a.login)
	mux.HandleFunc("PUT /api/pages/{short}", a.passed(a.putGame))
	mux.HandleFunc("POST /api/pages/{short}/builds", a.passed(a.newBuild))
	mux.HandleFunc("GET /api/builds/{id}", a.passed(a.showBuild))
	mux.HandleFunc("POST /api/builds/{id}/open", a.passed(a.setBuild(open)))
	mux.HandleFunc("POST /api/builds/{id}/some", a.passed(a.setBuild(some)))
	mux.HandleFunc("POST /api/builds/{id}/shut", a.passed(a.setBuild(shut)))
}

// passUses is how many requests a log-in is good for.
const passUses = 200

func (a *Portal) login(w http.ResponseWriter, r *http.Request) {
	if r.PostFormValue("user") == "" || !same(r.PostFormValue("password"), a.options.Token) {
		refuse(w, http.StatusUnauthorized, "we don't know this user and password")
		return
	}
	pass := newID() + newID()
	uses := passUses
	if a.options.Fault == TokenExpired {
		uses = 2
	}
	a.mu.Lock()
	a.passes[pass] = uses
	a.mu.Unlock()
	answer(w, http.StatusOK, map[string]string{"pass": pass})
}

// passed lets in clients that have logged in.
func (a *Portal) passed(next http.HandlerFunc) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		pass := r.Header.Get("X-Pass")
		a.mu.Lock()
		left := a.passes[pass]
		a.passes[pass] = left - 1
		a.mu.Unlock()
		if left <= 0 {
			refuse(w, http.StatusUnauthorized, "this log-in is over; log in again")
			return
		}
		next(w, r)
	}
}

// newBuild takes a build as parts of a form (RFC 7578).
func (a *Portal) newBuild(w http.ResponseWriter, r *http.Request) {
	parts, err := r.MultipartReader()
	if err != nil {
		refuse(w, http.StatusUnsupportedMediaType, "we take multipart/form-data")
		return
	}
	v := &version{ID: newID(), Game: r.PathValue("short"), State: hidden, Secret: newID() + newID(), Made: time.Now().UTC()}
	if err := a.takeForm(parts, v); err != nil {
		answerError(w, err)
		return
	}
	if problems := a.verify(a.archive(v.ID)); len(problems) > 0 {
		os.Remove(a.archive(v.ID))
		answer(w, http.StatusUnprocessableEntity, map[string]any{"problems": problems})
		return
	}
	err = a.change(func(s *state) error {
		if s.Games[v.Game] == nil {
			return &no{http.StatusNotFound, "there is no page " + v.Game + " here"}
		}
		s.Versions[v.ID] = v
		return nil
	})
	if err != nil {
		answerError(w, err)
		return
	}
	answer(w, http.StatusCreated, a.build(r, *v))
}

func (a *Portal) takeForm(parts *multipart.Reader, v *version) error {
	sum := ""
	for {
		part, err := parts.NextPart()
		if err == io.EOF {
			break
		}
		if err != nil {
			return &no{http.StatusBadRequest, "the form did not arrive whole"}
		}
		if part.FormName() != "build" {
			text, err := io.ReadAll(io.LimitReader(part, 1000))
			if err != nil {
				return &no{http.StatusBadRequest, "the form did not arrive whole"}
			}
			switch part.FormName() {
			case "version":
				v.Version = string(text)
			case "sha256":
				v.SHA256 = string(text)
			}
			continue
		}
		hash := sha256.New()
		err = atomicfile.File(a.archive(v.ID), func(f disk.File) error {
			if _, err := io.Copy(io.MultiWriter(f, hash), part); err != nil {
				return &no{http.StatusBadRequest, "the build did not arrive whole"}
			}
			return nil
		})
		if err != nil {
			return err
		}
		sum = hex.EncodeToString(hash.Sum(nil))
	}
	if sum == "" || sum != v.SHA256 || a.options.Fault == WrongChecksum && a.first("checksum") {
		os.Remove(a.archive(v.ID))
		return &no{http.StatusUnprocessableEntity, "the build arrived damaged: the sums differ"}
	}
	return nil
}

// build is what a build's owner is told.
func (a *Portal) build(r *http.Request, v version) map[string]any {
	out := map[string]any{"id": v.ID, "version": v.Version, "state": v.State, "problems": v.Problems}
	switch v.State {
	case hidden:
		out["see"] = "http://" + r.Host + "/draft/" + v.Secret
	case some, open:
		out["see"] = a.pageAddress(r, v.Game)
		out["page"] = a.pageAddress(r, v.Game)
	}
	return out
}

func (a *Portal) showBuild(w http.ResponseWriter, r *http.Request) {
	v, ok := a.versionByID(r.PathValue("id"))
	if !ok {
		refuse(w, http.StatusNotFound, "there is no such build")
		return
	}
	answer(w, http.StatusOK, a.build(r, v))
}

// setBuild shows a build to everybody, to some, or to nobody any more. The link of the page stays the same.
func (a *Portal) setBuild(to string) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		var in struct{ Password string }
		if to == some && !readJSON(w, r, &in) {
			return
		}
		var now version
		err := a.change(func(s *state) error {
			v := s.Versions[r.PathValue("id")]
			if v == nil {
				return &no{http.StatusNotFound, "there is no such build"}
			}
			if to == some && len(in.Password) < 4 {
				return &no{http.StatusUnprocessableEntity, "a password has four letters or more"}
			}
			g := s.Games[v.Game]
			if before := s.Versions[g.Live]; before != nil && before != v {
				before.State = older
			}
			g.Live, v.State, v.Password = v.ID, to, ""
			switch to {
			case some:
				v.Password = fmt.Sprintf("%x", sha256.Sum256([]byte(v.Secret+in.Password)))
			case shut:
				g.Live = ""
			}
			now = *v
			return nil
		})
		if err != nil {
			answerError(w, err)
			return
		}
		answer(w, http.StatusOK, a.build(r, now))
	}
}

// knows reports whether a visitor of a page for some brings its password.
func (a *Portal) knows(r *http.Request, v version) bool {
	word := strings.TrimSpace(r.PostFormValue("password"))
	return same(fmt.Sprintf("%x", sha256.Sum256([]byte(v.Secret+word))), v.Password)
}
