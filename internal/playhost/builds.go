package playhost

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"os"
	"time"
)

// The words for what became of a build.
const (
	Arriving = "arriving" // its archive is on the way
	Ready    = "ready"
	Refused  = "refused"
)

// A Build is a version that an owner sent.
type Build struct {
	ID       string    `json:"id"`
	Owner    string    `json:"-"`
	Game     string    `json:"game"`
	Title    string    `json:"title"`
	Version  string    `json:"version"`
	SHA256   string    `json:"sha256"`
	Bytes    int64     `json:"bytes"`
	State    string    `json:"state"`
	Problems []Problem `json:"problems"`
	Made     time.Time `json:"made"`

	secret   string
	isolated bool
}

// A Problem is why a build was refused.
type Problem struct {
	File  string `json:"file"`
	Words string `json:"words"`
}

var errNoBuild = errors.New("there is no such build")

const buildColumns = "id, owner, game, title, version, sha256, bytes, state, problems, secret, isolated, made"

func scanBuild(row interface{ Scan(...any) error }) (*Build, error) {
	var b Build
	var problems string
	var made int64
	err := row.Scan(&b.ID, &b.Owner, &b.Game, &b.Title, &b.Version, &b.SHA256, &b.Bytes, &b.State, &problems, &b.secret, &b.isolated, &made)
	if errors.Is(err, sql.ErrNoRows) {
		return nil, errNoBuild
	}
	if err == nil {
		err = json.Unmarshal([]byte(problems), &b.Problems)
	}
	b.Made = time.Unix(made, 0).UTC()
	return &b, err
}

// build is a build of an owner.
func (h *Host) build(ctx context.Context, owner, id string) (*Build, error) {
	return scanBuild(h.data.db.QueryRowContext(ctx, "SELECT "+buildColumns+" FROM builds WHERE id = ? AND owner = ?", id, owner))
}

// largestBuild is the largest archive, in bytes.
const largestBuild = 2 << 30

// announce takes note of a build that will be uploaded.
func (h *Host) announce(w http.ResponseWriter, r *http.Request) {
	var in struct {
		Game, Title, Version, SHA256 string
		Bytes                        int64
	}
	if err := json.NewDecoder(http.MaxBytesReader(w, r.Body, 64<<10)).Decode(&in); err != nil {
		h.refuse(w, http.StatusBadRequest, "this is not the JSON that the host expects")
		return
	}
	switch {
	case !tokenName.MatchString(in.Game) || len(in.Game) > 60 || in.Title == "" || len(in.Title) > 200 || in.Version == "" || len(in.Version) > 64:
		h.refuse(w, http.StatusUnprocessableEntity, "a build has a game's short name, its title, and a version")
		return
	case len(in.SHA256) != 64 || in.Bytes <= 0 || in.Bytes > largestBuild:
		h.refuse(w, http.StatusUnprocessableEntity, "a build has a SHA-256, and up to 2 GB")
		return
	}
	if err := h.roomFor(r.Context(), ownerOf(r), in.Bytes); err != nil {
		h.fail(w, err)
		return
	}
	id := newID()
	_, err := h.data.db.ExecContext(r.Context(), "INSERT INTO builds (id, owner, game, title, version, sha256, bytes, state, secret, made) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?)",
		id, ownerOf(r), in.Game, in.Title, in.Version, in.SHA256, in.Bytes, Arriving, newID(), seconds(h.options.Now()))
	if err != nil {
		h.fail(w, err)
		return
	}
	answer(w, http.StatusCreated, map[string]string{"id": id, "upload": "/api/builds/" + id + "/upload"})
}

// roomFor refuses an owner who keeps as much as may be kept. Contents that several builds share count once.
func (h *Host) roomFor(ctx context.Context, owner string, more int64) error {
	if h.options.Quota <= 0 {
		return nil
	}
	var kept int64
	err := h.data.db.QueryRowContext(ctx, "SELECT COALESCE(SUM(bytes), 0) FROM (SELECT DISTINCT files.sha256, files.bytes FROM files JOIN builds ON builds.id = files.build WHERE builds.owner = ?)", owner).Scan(&kept)
	if err != nil {
		return err
	}
	if kept+more > h.options.Quota {
		return &refusal{http.StatusInsufficientStorage, fmt.Sprintf("you keep %d bytes here; %d more would go over your %d", kept, more, h.options.Quota)}
	}
	return nil
}

func (h *Host) showBuild(w http.ResponseWriter, r *http.Request) {
	b, err := h.build(r.Context(), ownerOf(r), r.PathValue("id"))
	if errors.Is(err, errNoBuild) {
		h.refuse(w, http.StatusNotFound, "there is no such build of yours")
		return
	}
	if err != nil {
		h.fail(w, err)
		return
	}
	answer(w, http.StatusOK, h.shown(b))
}

// shown is a build as its owner sees it.
func (h *Host) shown(b *Build) any {
	link := ""
	if b.State == Ready {
		link = h.options.GamesURL + "/b/" + b.secret + "/"
	}
	return struct {
		*Build
		Link string `json:"link"`
	}{b, link}
}

func (h *Host) listBuilds(w http.ResponseWriter, r *http.Request) {
	rows, err := h.data.db.QueryContext(r.Context(), "SELECT "+buildColumns+" FROM builds WHERE owner = ? AND game = ? ORDER BY made, id", ownerOf(r), r.URL.Query().Get("game"))
	if err != nil {
		h.fail(w, err)
		return
	}
	defer rows.Close()
	list := []any{}
	for rows.Next() {
		b, err := scanBuild(rows)
		if err != nil {
			h.fail(w, err)
			return
		}
		list = append(list, h.shown(b))
	}
	if err := rows.Err(); err != nil {
		h.fail(w, err)
		return
	}
	answer(w, http.StatusOK, map[string]any{"builds": list})
}

// arrived verifies and unpacks an archive that is here whole, and decides what becomes of the build.
func (h *Host) arrived(ctx context.Context, b *Build) error {
	words, err := h.whole(b)
	if err != nil {
		return err
	}
	var found *arrival
	if words == "" {
		if found, err = h.unpack(h.uploadPath(b.ID)); err != nil {
			return err
		}
	} else {
		found = &arrival{problems: []Problem{{"", words}}}
	}
	state := Ready
	if len(found.problems) > 0 {
		state = Refused
	}
	problems, err := json.Marshal(found.problems)
	if err != nil {
		return err
	}
	err = h.data.within(ctx, func(tx *sql.Tx) error {
		if state == Ready {
			for _, f := range found.files {
				if _, err := tx.Exec("INSERT INTO files (build, path, sha256, bytes) VALUES (?, ?, ?, ?)", b.ID, f.path, f.sha256, f.bytes); err != nil {
					return err
				}
			}
		}
		_, err := tx.Exec("UPDATE builds SET state = ?, problems = ?, isolated = ? WHERE id = ?", state, string(problems), found.isolated, b.ID)
		return err
	})
	if err != nil {
		return err
	}
	return os.Remove(h.uploadPath(b.ID))
}

// resume verifies archives that were here whole when the host ended.
func (h *Host) resume(ctx context.Context) error {
	rows, err := h.data.db.QueryContext(ctx, "SELECT "+buildColumns+" FROM builds WHERE state = ?", Arriving)
	if err != nil {
		return err
	}
	defer rows.Close()
	var whole []*Build
	for rows.Next() {
		b, err := scanBuild(rows)
		if err != nil {
			return err
		}
		if info, err := os.Stat(h.uploadPath(b.ID)); err == nil && info.Size() == b.Bytes {
			whole = append(whole, b)
		}
	}
	if err := errors.Join(rows.Err(), rows.Close()); err != nil {
		return err
	}
	for _, b := range whole {
		if err := h.arrived(ctx, b); err != nil {
			return err
		}
	}
	return nil
}
