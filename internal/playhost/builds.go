package playhost

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"time"

	"havvel/internal/disk"
)

// The words for the state of a build.
const (
	Arriving = "arriving" // its archive is on the way
	Ready    = "ready"
	Refused  = "refused"
	Removed  = "removed" // its files are gone; what came back of its rounds isn't
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
	joint    string // how its archive is put together; "" of what travels alone
	travels  int64  // bytes of its archive
}

// A Problem is why a build was refused.
type Problem struct {
	File  string `json:"file"`
	Words string `json:"words"`
}

var errNoBuild = errors.New("there is no such build")

const buildColumns = "id, owner, game, title, version, sha256, bytes, state, problems, secret, isolated, joint, travels, made"

func scanBuild(row interface{ Scan(...any) error }) (*Build, error) {
	var b Build
	var problems string
	var made int64
	err := row.Scan(&b.ID, &b.Owner, &b.Game, &b.Title, &b.Version, &b.SHA256, &b.Bytes, &b.State, &problems, &b.secret, &b.isolated,
		&b.joint, &b.travels, &made)
	if errors.Is(err, sql.ErrNoRows) {
		return nil, errNoBuild
	}
	if err == nil {
		err = json.Unmarshal([]byte(problems), &b.Problems)
	}
	if b.travels < 0 {
		b.travels = b.Bytes
	}
	b.Made = time.Unix(made, 0).UTC()
	return &b, err
}

// build is a build of an owner.
func (h *Host) build(ctx context.Context, owner, id string) (*Build, error) {
	return scanBuild(h.data.row(ctx, "SELECT "+buildColumns+" FROM builds WHERE id = ? AND owner = ?", id, owner))
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
	case !tokenName.MatchString(in.Game) || len(in.Game) > 60 || in.Title == "" || len(in.Title) > 200 || in.Version == "" ||
		len(in.Version) > 64:
		h.refuse(w, http.StatusUnprocessableEntity, "a build has a game's short name, its title, and a version")
		return
	case len(in.SHA256) != 64 || in.Bytes <= 0 || in.Bytes > largestBuild:
		h.refuse(w, http.StatusUnprocessableEntity, "a build has a SHA-256, and up to 2 GB")
		return
	}
	if h.slow(w, arrivals, ownerOf(r)) {
		return
	}
	if err := h.roomFor(r.Context(), ownerOf(r), in.Bytes); err != nil {
		h.fail(w, err)
		return
	}
	id, now := newID(), h.options.Now()
	_, err := h.data.exec(
		r.Context(),
		"INSERT INTO builds (id, owner, game, title, version, sha256, bytes, state, secret, made, fraction) "+
			"VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)",
		id,
		ownerOf(r),
		in.Game,
		in.Title,
		in.Version,
		in.SHA256,
		in.Bytes,
		Arriving,
		newID(),
		seconds(now),
		fraction(now),
	)
	if err != nil {
		h.fail(w, err)
		return
	}
	kept, err := h.keptArchives(r.Context(), ownerOf(r), in.Game)
	if err != nil {
		h.fail(w, err)
		return
	}
	answer(w, http.StatusCreated, map[string]any{"id": id, "upload": "/api/builds/" + id + "/upload", "archives": append([]string{}, kept...)})
}

// roomFor refuses an owner who keeps as much as may be kept.
func (h *Host) roomFor(ctx context.Context, owner string, more int64) error {
	if h.options.Quota <= 0 {
		return nil
	}
	held, err := h.heldBy(ctx, owner)
	if err != nil {
		return err
	}
	if held+more > h.options.Quota {
		return &refusal{
			http.StatusInsufficientStorage,
			fmt.Sprintf("you keep %d bytes here; %d more would go over your %d", held, more, h.options.Quota),
		}
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
		link = h.gamesAt(b.secret) + "/b/" + b.secret + "/"
	}
	return struct {
		*Build
		Link string `json:"link"`
	}{b, link}
}

func (h *Host) listBuilds(w http.ResponseWriter, r *http.Request) {
	rows, err := h.data.query(
		r.Context(),
		"SELECT "+buildColumns+" FROM builds WHERE owner = ? AND game = ? ORDER BY made, fraction",
		ownerOf(r),
		r.URL.Query().Get("game"),
	)
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

// arrived verifies and unpacks an archive that is here whole, and decides what becomes of the build. Of several hosts that do so at
// once, one decides.
func (h *Host) arrived(ctx context.Context, b *Build) error {
	list, _, err := h.pieces(ctx, h.data.queries, b.ID)
	if err != nil {
		return err
	}
	found := &arrival{}
	var kept []*content
	var archive *content
	err = spool(h.files, func(f disk.File) error {
		words, err := h.assemble(ctx, b, list, f)
		if err == nil && words != "" {
			found.say("", "%s", words)
			return nil
		}
		if err == nil {
			found, err = survey(ctx, f, b.Bytes)
		}
		if err == nil {
			err = h.fits(ctx, b, found)
		}
		if err == nil && len(found.problems) == 0 {
			if kept, err = h.unpack(ctx, found); err == nil {
				archive, err = h.keepArchive(ctx, b, f)
			}
		}
		return err
	})
	if err != nil {
		if now, asked := h.build(ctx, b.Owner, b.ID); asked == nil && now.State != Arriving {
			return nil // its pieces went away because another host decided
		}
		return err
	}
	if err := h.decide(ctx, b, found, kept, archive); err != nil {
		return err
	}
	var names []string
	for _, p := range list {
		names = append(names, p.name)
	}
	return h.files.Remove(ctx, names...)
}

// fits says so where what is in an archive is more than its owner may keep.
func (h *Host) fits(ctx context.Context, b *Build, found *arrival) error {
	var no *refusal
	err := h.roomFor(ctx, b.Owner, found.bytes-b.travels) // without the archive, which goes
	if errors.As(err, &no) {
		found.say("", "unpacked it has %d bytes: %s", found.bytes, no.words)
		return nil
	}
	return err
}

// decide writes down the state of a build.
func (h *Host) decide(ctx context.Context, b *Build, found *arrival, kept []*content, archive *content) error {
	state := Ready
	if len(found.problems) > 0 {
		state = Refused
	}
	problems, err := json.Marshal(append([]Problem{}, found.problems...))
	if err != nil {
		return err
	}
	return h.data.within(ctx, func(q queries) error {
		done, err := q.exec(
			ctx,
			"UPDATE builds SET state = ?, problems = ?, isolated = ? WHERE id = ? AND state = ?",
			state,
			string(problems),
			flag(found.isolated),
			b.ID,
			Arriving,
		)
		if err := one(done, err, errDecided); err != nil {
			if errors.Is(err, errDecided) {
				return nil
			}
			return err
		}
		if archive != nil {
			kept = append(kept, archive)
		}
		if err := errors.Join(noteKept(ctx, q, kept), noteArchive(ctx, q, b, archive)); err != nil {
			return err
		}
		for _, f := range found.files {
			if state != Ready {
				break
			}
			if _, err := q.exec(ctx, "INSERT INTO files (build, path, sha256, bytes) VALUES (?, ?, ?, ?)", b.ID, f.path, f.sha256,
				f.bytes); err != nil {
				return err
			}
		}
		_, err = q.exec(ctx, "DELETE FROM pieces WHERE build = ?", b.ID)
		return err
	})
}

var errDecided = errors.New("another host decided it")

// resume verifies archives that were here whole when a host ended.
func (h *Host) resume(ctx context.Context) error {
	rows, err := h.data.query(
		ctx,
		"SELECT "+buildColumns+" FROM builds WHERE state = ? AND "+
			"(CASE WHEN travels < 0 THEN bytes ELSE travels END) = (SELECT COALESCE(SUM(pieces.bytes), 0) FROM pieces WHERE "+
			"pieces.build = builds.id)",
		Arriving,
	)
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
		whole = append(whole, b)
	}
	if err := errors.Join(rows.Err(), rows.Close()); err != nil {
		return err
	}
	for _, b := range whole {
		if err := h.arrived(ctx, b); err != nil {
			h.options.Log.Error("looking at a build that arrived", "build", b.ID, "error", err)
		}
	}
	return nil
}
