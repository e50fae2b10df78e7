package playhost

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"io"
	"net/http"
	"strconv"

	"havvel/internal/disk"
	"havvel/internal/pieces"
)

// The archives of a game's last builds stay, so that the next one needs to bring only what differs. A build's upload then has a joint in
// its Upload-Metadata, which says where the other parts are.

// archivesKept is how many archives of a game stay.
const archivesKept = 2

// keptArchives are the SHA-256 of the archives that are here of a game, the last first.
func (h *Host) keptArchives(ctx context.Context, owner, game string) ([]string, error) {
	return texts(h.data.query(ctx, `SELECT archives.sha256 FROM archives JOIN builds ON builds.id = archives.build
		JOIN contents ON contents.sha256 = archives.sha256 AND contents.kept = 1
		WHERE builds.owner = ? AND builds.game = ? ORDER BY builds.made DESC, builds.fraction DESC`, owner, game))
}

// errGone says that the parts of a build were to be taken from an archive that isn't here any more.
var errGone = errors.New("an archive that this one takes parts from is gone; send it again")

// archive finds an archive of an owner.
func (h *Host) archive(ctx context.Context, owner, sum string) (*content, error) {
	c := &content{sha256: sum}
	err := h.data.row(ctx, `SELECT contents.bytes, contents.name FROM archives JOIN builds ON builds.id = archives.build
		JOIN contents ON contents.sha256 = archives.sha256 AND contents.kept = 1
		WHERE builds.owner = ? AND archives.sha256 = ? LIMIT 1`, owner, sum).Scan(&c.bytes, &c.name)
	if errors.Is(err, sql.ErrNoRows) {
		return nil, errGone
	}
	return c, err
}

// takeJoint notes how a build is put together, as the request that makes its upload says. One that differs from the one before begins
// anew.
func (h *Host) takeJoint(ctx context.Context, b *Build, r *http.Request) error {
	text := pieces.InMetadata(r.Header.Get("Upload-Metadata"))
	if text == b.joint {
		return nil
	}
	travels := b.Bytes
	if text != "" {
		var j pieces.Joint
		if err := j.UnmarshalText([]byte(text)); err != nil {
			return &refusal{http.StatusBadRequest, "the joint in Upload-Metadata can't be read"}
		}
		err := j.Verify(b.Bytes, func(sum string) int64 {
			if c, err := h.archive(ctx, b.Owner, sum); err == nil {
				return c.bytes
			}
			return -1
		})
		if err != nil {
			return &refusal{http.StatusUnprocessableEntity, "the joint in Upload-Metadata: " + err.Error()}
		}
		travels = j.Travels()
	}
	list, _, err := h.pieces(ctx, h.data.queries, b.ID)
	if err != nil {
		return err
	}
	err = h.data.within(ctx, func(q queries) error {
		_, first := q.exec(ctx, "DELETE FROM pieces WHERE build = ?", b.ID)
		_, second := q.exec(ctx, "UPDATE builds SET joint = ?, travels = ? WHERE id = ? AND state = ?", text, travels, b.ID, Arriving)
		return errors.Join(first, second)
	})
	if err != nil {
		return err
	}
	b.joint, b.travels = text, travels
	for _, p := range list {
		err = errors.Join(err, h.files.Remove(ctx, p.name))
	}
	return err
}

// tellUpload says how far an upload is, and how it is put together.
func tellUpload(w http.ResponseWriter, b *Build, there int64) {
	w.Header().Set("Upload-Offset", strconv.FormatInt(there, 10))
	w.Header().Set("Upload-Length", strconv.FormatInt(b.travels, 10))
	if b.joint != "" {
		w.Header().Set("Upload-Metadata", pieces.Metadata(b.joint))
	}
}

// join writes an archive of what arrived and of the parts that are here.
func (h *Host) join(ctx context.Context, b *Build, arrived io.Reader, to io.Writer) error {
	if b.joint == "" {
		_, err := io.Copy(to, arrived)
		return err
	}
	var j pieces.Joint
	if err := j.UnmarshalText([]byte(b.joint)); err != nil {
		return fmt.Errorf("reading how build %s is put together: %w", b.ID, err)
	}
	sources := make([]io.ReadSeeker, len(j.Sources))
	for i, sum := range j.Sources {
		c, err := h.archive(ctx, b.Owner, sum)
		if err != nil {
			return err
		}
		f, err := h.files.Open(ctx, c.name)
		if err != nil {
			return fmt.Errorf("opening an archive: %w", err)
		}
		defer f.Close()
		sources[i] = f
	}
	for _, p := range j.Parts {
		from := arrived
		if p[1] >= 0 {
			if _, err := sources[p[1]].Seek(p[2], io.SeekStart); err != nil {
				return err
			}
			from = sources[p[1]]
		}
		if _, err := io.CopyN(to, from, p[0]); err != nil {
			return err
		}
	}
	return nil
}

// keepArchive keeps an archive for builds to come, if its owner has room for it; nil where not.
func (h *Host) keepArchive(ctx context.Context, b *Build, f disk.File) (*content, error) {
	var no *refusal
	if err := h.roomFor(ctx, b.Owner, b.travels); errors.As(err, &no) { // what traveled goes, the archive stays
		return nil, nil
	} else if err != nil {
		return nil, err
	}
	c := &content{sha256: b.SHA256, bytes: b.Bytes}
	if err := h.claim(ctx, []*content{c}); err != nil || c.kept {
		return c, err
	}
	return c, h.files.Put(ctx, c.name, f)
}

// noteArchive notes that a build's archive is kept, and lets those go that the game's last ones take the place of.
func noteArchive(ctx context.Context, q queries, b *Build, archive *content) error {
	if archive == nil {
		return nil
	}
	_, first := q.exec(ctx, "INSERT INTO archives (build, sha256, bytes) VALUES (?, ?, ?)", b.ID, archive.sha256, archive.bytes)
	_, second := q.exec(ctx, `DELETE FROM archives WHERE build IN (SELECT archives.build FROM archives JOIN builds ON
		builds.id = archives.build WHERE builds.owner = ? AND builds.game = ?
		ORDER BY builds.made DESC, builds.fraction DESC LIMIT 1000 OFFSET ?)`,
		b.Owner, b.Game, archivesKept)
	return errors.Join(first, second)
}
