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
CREATE TABLE IF NOT EXISTS rounds (
	id        TEXT PRIMARY KEY,
	owner     TEXT NOT NULL,
	build     TEXT NOT NULL,
	secret    TEXT NOT NULL UNIQUE, -- in its link
	play      TEXT NOT NULL UNIQUE, -- in its game's address, which only those see who may play
	made      INTEGER NOT NULL,
	until     INTEGER NOT NULL,           -- the end
	most      INTEGER NOT NULL DEFAULT 0, -- testers; 0 for any number
	password  TEXT NOT NULL DEFAULT '',   -- bcrypt
	closed    INTEGER NOT NULL DEFAULT 0,
	questions TEXT NOT NULL DEFAULT '[]'
);
CREATE TABLE IF NOT EXISTS sessions (
	id        TEXT PRIMARY KEY,
	round     TEXT NOT NULL,
	made      INTEGER NOT NULL,
	device    TEXT NOT NULL,
	simulated INTEGER NOT NULL DEFAULT 0
);
CREATE INDEX IF NOT EXISTS sessions_of ON sessions (round);
CREATE TABLE IF NOT EXISTS events (
	session TEXT NOT NULL,
	n       INTEGER NOT NULL, -- given by the page, so that what comes twice is kept once
	at      INTEGER NOT NULL, -- milliseconds after the session began
	kind    TEXT NOT NULL,
	data    TEXT NOT NULL,
	PRIMARY KEY (session, n)
);
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
