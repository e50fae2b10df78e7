package playhost

import (
	"context"
	"errors"
	"fmt"
	"time"
)

// A KeptBuild is a build as the host's owner sees it.
type KeptBuild struct {
	ID      string    `json:"id"`
	Owner   string    `json:"owner"`
	Game    string    `json:"game"`
	Version string    `json:"version"`
	State   string    `json:"state"`
	Bytes   int64     `json:"bytes"` // of its files, those that others share included
	Made    time.Time `json:"made"`
	Rounds  int       `json:"open_rounds"`
}

// Builds lists all builds, the last first.
func (h *Host) Builds(ctx context.Context) ([]KeptBuild, error) {
	rows, err := h.data.query(ctx, `SELECT id, owner, game, version, state, made,
		(SELECT COALESCE(SUM(files.bytes), 0) FROM files WHERE files.build = builds.id),
		(SELECT COUNT(*) FROM rounds WHERE rounds.build = builds.id AND closed = 0 AND until > ?)
		FROM builds ORDER BY made DESC, fraction DESC`, seconds(h.options.Now()))
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	list := []KeptBuild{}
	for rows.Next() {
		var b KeptBuild
		var made int64
		if err := rows.Scan(&b.ID, &b.Owner, &b.Game, &b.Version, &b.State, &made, &b.Bytes, &b.Rounds); err != nil {
			return nil, err
		}
		b.Made = time.Unix(made, 0).UTC()
		list = append(list, b)
	}
	return list, rows.Err()
}

// ErrNoSuchBuild says that there is no build of an id.
var ErrNoSuchBuild = errors.New("there is no such build")

// RemoveBuild takes a build's files away. Those that no other build shares go from the disk within two days. One that is played in an open
// round stays.
func (h *Host) RemoveBuild(ctx context.Context, id string) error {
	return h.data.within(ctx, func(q queries) error {
		var open int
		err := q.row(ctx, "SELECT COUNT(*) FROM rounds WHERE build = ? AND closed = 0 AND until > ?", id, seconds(h.options.Now())).Scan(&open)
		if err == nil && open > 0 {
			err = fmt.Errorf("it is played in an open round; close that first")
		}
		if err != nil {
			return err
		}
		done, err := q.exec(ctx, "UPDATE builds SET state = ? WHERE id = ? AND state IN (?, ?)", Removed, id, Ready, Refused)
		if err := one(done, err, ErrNoSuchBuild); err != nil {
			return err
		}
		_, files := q.exec(ctx, "DELETE FROM files WHERE build = ?", id)
		_, archive := q.exec(ctx, "DELETE FROM archives WHERE build = ?", id)
		return errors.Join(files, archive)
	})
}
