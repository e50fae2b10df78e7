package standin

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"regexp"
	"slices"
	"time"

	"havvel/internal/atomicfile"
	"havvel/internal/disk"
)

// maxUpload is the largest archive, in bytes.
const maxUpload = 80_000_000

// no is a refusal in the arcade's words.
type no struct {
	status int
	words  string
}

func (e *no) Error() string { return e.words }

func refuse(w http.ResponseWriter, status int, words string) {
	answer(w, status, map[string]string{"error": words})
}

func answer(w http.ResponseWriter, status int, v any) {
	w.Header().Set("Content-Type", "application/json")
	w.WriteHeader(status)
	json.NewEncoder(w).Encode(v)
}

func answerError(w http.ResponseWriter, err error) {
	var n *no
	if errors.As(err, &n) {
		refuse(w, n.status, n.words)
		return
	}
	refuse(w, http.StatusInternalServerError, "something broke on our side; try again later")
}

func (a *Portal) arcadeRoutes(mux *http.ServeMux) {
	mux.HandleFunc("PUT /api/games/{short}", a.owned(a.putGame))
	mux.HandleFunc("POST /api/games/{short}/versions", a.owned(a.newVersion))
	mux.HandleFunc("GET /api/games/{short}/versions", a.owned(a.listVersions))
	mux.HandleFunc("PUT /api/uploads/{id}", a.owned(a.upload))
	mux.HandleFunc("OPTIONS /api/uploads/{id}", a.owned(a.offers))
	mux.HandleFunc("POST /api/uploads/{id}", a.owned(a.beginUpload))
	mux.HandleFunc("HEAD /api/uploads/{id}/bytes", a.owned(a.uploadOffset))
	mux.HandleFunc("PATCH /api/uploads/{id}/bytes", a.owned(a.appendUpload))
	mux.HandleFunc("GET /api/versions/{id}", a.owned(a.showVersion))
	mux.HandleFunc("POST /api/versions/{id}/release", a.owned(a.release))
	mux.HandleFunc("POST /api/versions/{id}/rest", a.owned(a.rest))
	mux.HandleFunc("GET /leaderboards/{short}", a.leaderboards)
	mux.HandleFunc("POST /leaderboards/{short}/{leaderboard}", a.score)
}

var shortName = regexp.MustCompile(`^[a-z0-9-]{1,60}$`)

func (a *Portal) putGame(w http.ResponseWriter, r *http.Request) {
	var in struct{ Title, Studio string }
	if !readJSON(w, r, &in) {
		return
	}
	short := r.PathValue("short")
	if !shortName.MatchString(short) || in.Title == "" {
		refuse(w, http.StatusUnprocessableEntity, "a game needs a title, and a short name of small letters, digits and hyphens")
		return
	}
	status := http.StatusOK
	err := a.change(func(s *state) error {
		g := s.Games[short]
		if g == nil {
			g = &game{Short: short}
			s.Games[short] = g
			status = http.StatusCreated
		}
		g.Title, g.Studio = in.Title, in.Studio
		return nil
	})
	if err != nil {
		answerError(w, err)
		return
	}
	answer(w, status, map[string]string{"short": short, "page": a.pageAddress(r, short)})
}

func (a *Portal) newVersion(w http.ResponseWriter, r *http.Request) {
	var in struct{ Version, SHA256 string }
	if !readJSON(w, r, &in) {
		return
	}
	v := &version{
		ID:      newID(),
		Game:    r.PathValue("short"),
		Version: in.Version,
		SHA256:  in.SHA256,
		State:   awaiting,
		Secret:  newID() + newID(),
		Made:    time.Now().UTC(),
	}
	err := a.change(func(s *state) error {
		if s.Games[v.Game] == nil {
			return &no{http.StatusNotFound, "there is no game " + v.Game + " here"}
		}
		if v.Version == "" || len(v.Version) > 64 {
			return &no{http.StatusUnprocessableEntity, "a version needs a name of 1 to 64 letters"}
		}
		s.Versions[v.ID] = v
		return nil
	})
	if err != nil {
		answerError(w, err)
		return
	}
	answer(w, http.StatusCreated, map[string]string{"id": v.ID, "upload": "/api/uploads/" + v.ID})
}

func (a *Portal) upload(w http.ResponseWriter, r *http.Request) {
	v, ok := a.versionByID(r.PathValue("id"))
	switch {
	case !ok:
		refuse(w, http.StatusNotFound, "nothing was announced under this address")
		return
	case v.State != awaiting:
		refuse(w, http.StatusConflict, "this version has its archive already")
		return
	case r.Header.Get("Content-Type") != "application/zip":
		refuse(w, http.StatusUnsupportedMediaType, "we take application/zip only")
		return
	case r.ContentLength > maxUpload:
		refuse(w, http.StatusRequestEntityTooLarge, "the archive is over 80 MB")
		return
	}
	if err := a.takeArchive(w, r, v); err != nil {
		answerError(w, err)
		return
	}
	a.verifyLater(v.ID)
	answer(w, http.StatusAccepted, map[string]string{"state": checking})
}

// takeArchive keeps an upload, if it is whole.
func (a *Portal) takeArchive(w http.ResponseWriter, r *http.Request, v version) error {
	body := http.MaxBytesReader(w, r.Body, maxUpload)
	err := atomicfile.File(a.archive(v.ID), func(f disk.File) error {
		hash := sha256.New()
		n, err := io.Copy(io.MultiWriter(f, hash), body)
		var tooLarge *http.MaxBytesError
		switch {
		case errors.As(err, &tooLarge):
			return &no{http.StatusRequestEntityTooLarge, "the archive is over 80 MB"}
		case err != nil || r.ContentLength >= 0 && n != r.ContentLength:
			return &no{http.StatusBadRequest, fmt.Sprintf("the upload stopped after %d bytes", n)}
		case hex.EncodeToString(hash.Sum(nil)) != v.SHA256:
			return &no{http.StatusUnprocessableEntity, "what arrived is not what was announced: the sums differ"}
		}
		return nil
	})
	if err != nil {
		return err
	}
	return a.change(func(s *state) error {
		s.Versions[v.ID].State = checking
		return nil
	})
}

func (a *Portal) showVersion(w http.ResponseWriter, r *http.Request) {
	v, ok := a.versionByID(r.PathValue("id"))
	if !ok {
		refuse(w, http.StatusNotFound, "there is no such version")
		return
	}
	out := map[string]any{"id": v.ID, "version": v.Version, "state": v.State, "problems": v.Problems}
	switch v.State {
	case ready:
		out["draft"] = "http://" + r.Host + "/draft/" + v.Secret
	case live:
		out["page"] = a.pageAddress(r, v.Game)
	}
	answer(w, http.StatusOK, out)
}

func (a *Portal) release(w http.ResponseWriter, r *http.Request) {
	id := r.PathValue("id")
	short := ""
	err := a.change(func(s *state) error {
		v := s.Versions[id]
		if v == nil {
			return &no{http.StatusNotFound, "there is no such version"}
		}
		if v.State != ready && v.State != past && v.State != live && v.State != resting {
			return &no{http.StatusConflict, "a version that is " + v.State + " can't be released"}
		}
		g := s.Games[v.Game]
		if before := s.Versions[g.Live]; before != nil {
			before.State = past
		}
		g.Live, v.State, short = v.ID, live, v.Game
		return nil
	})
	if err != nil {
		answerError(w, err)
		return
	}
	answer(w, http.StatusOK, map[string]string{"state": live, "page": a.pageAddress(r, short)})
}

// rest takes a version off.
func (a *Portal) rest(w http.ResponseWriter, r *http.Request) {
	id := r.PathValue("id")
	err := a.change(func(s *state) error {
		v := s.Versions[id]
		if v == nil || v.State != live {
			return &no{http.StatusConflict, "only the version that is live can be taken off"}
		}
		s.Games[v.Game].Live, v.State = "", resting
		return nil
	})
	if err != nil {
		answerError(w, err)
		return
	}
	answer(w, http.StatusOK, map[string]string{"state": resting})
}

func (a *Portal) listVersions(w http.ResponseWriter, r *http.Request) {
	type row struct {
		ID      string    `json:"id"`
		Version string    `json:"version"`
		State   string    `json:"state"`
		Made    time.Time `json:"made"`
	}
	list := []row{}
	a.mu.Lock()
	for _, v := range a.state.Versions {
		if v.Game == r.PathValue("short") {
			list = append(list, row{v.ID, v.Version, v.State, v.Made})
		}
	}
	a.mu.Unlock()
	slices.SortFunc(list, func(x, y row) int { return x.Made.Compare(y.Made) })
	answer(w, http.StatusOK, map[string]any{"versions": list})
}

func (a *Portal) pageAddress(r *http.Request, short string) string {
	return "http://" + r.Host + "/play/" + short
}

func readJSON(w http.ResponseWriter, r *http.Request, into any) bool {
	err := json.NewDecoder(http.MaxBytesReader(w, r.Body, 1<<20)).Decode(into)
	if err != nil {
		refuse(w, http.StatusBadRequest, "this is not the JSON that we expect")
	}
	return err == nil
}
