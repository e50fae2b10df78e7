package playhost

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"time"

	_ "modernc.org/sqlite" // the embedded database
)

// schema is what the database holds. Times are seconds since 1970, UTC.
const schema = `
CREATE TABLE IF NOT EXISTS tokens (
	name    TEXT PRIMARY KEY,
	hash    TEXT NOT NULL UNIQUE, -- SHA-256 of the token, which is long and random
	made    INTEGER NOT NULL,
	revoked INTEGER NOT NULL DEFAULT 0
);
CREATE TABLE IF NOT EXISTS builds (
	id        TEXT PRIMARY KEY,
	owner     TEXT NOT NULL,
	game      TEXT NOT NULL,
	title     TEXT NOT NULL,
	version   TEXT NOT NULL,
	sha256    TEXT NOT NULL, -- of the archive
	bytes     INTEGER NOT NULL,
	state     TEXT NOT NULL,
	problems  TEXT NOT NULL DEFAULT '[]',
	secret    TEXT NOT NULL UNIQUE, -- in the address under which it is served
	isolated  INTEGER NOT NULL DEFAULT 0,
	made      INTEGER NOT NULL
);
CREATE INDEX IF NOT EXISTS builds_of ON builds (owner, game, made);
CREATE TABLE IF NOT EXISTS files (
	build  TEXT NOT NULL,
	path   TEXT NOT NULL,
	sha256 TEXT NOT NULL,
	bytes  INTEGER NOT NULL,
	PRIMARY KEY (build, path)
);
CREATE INDEX IF NOT EXISTS files_of ON files (sha256);
`

// A database keeps what is not a file.
type database struct{ db *sql.DB }

func openDatabase(path string) (*database, error) {
	db, err := sql.Open("sqlite", "file:"+path+"?_pragma=journal_mode(WAL)&_pragma=synchronous(FULL)&_pragma=busy_timeout(10000)&_pragma=foreign_keys(ON)&_txlock=immediate")
	if err == nil {
		_, err = db.Exec(schema)
	}
	if err != nil {
		return nil, fmt.Errorf("opening the host's data in %s: %w", path, err)
	}
	return &database{db}, nil
}

func (d *database) close() error { return d.db.Close() }

func (d *database) ping(ctx context.Context) error { return d.db.PingContext(ctx) }

// within runs f in a transaction.
func (d *database) within(ctx context.Context, f func(*sql.Tx) error) error {
	tx, err := d.db.BeginTx(ctx, nil)
	if err != nil {
		return err
	}
	if err := f(tx); err != nil {
		return errors.Join(err, tx.Rollback())
	}
	return tx.Commit()
}

func seconds(t time.Time) int64 { return t.Unix() }
