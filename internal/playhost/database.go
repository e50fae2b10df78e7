package playhost

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"time"

	_ "github.com/jackc/pgx/v5/stdlib" // the database that several hosts share
	"modernc.org/sqlite"               // the embedded one

	"havvel/internal/fault"
)

// schema is what the database holds, in words that both databases take. Times are seconds since 1970, UTC.
var schema = []string{
	`CREATE TABLE IF NOT EXISTS host (format BIGINT NOT NULL)`, `
CREATE TABLE IF NOT EXISTS tokens (
	name    TEXT PRIMARY KEY,
	hash    TEXT NOT NULL UNIQUE, -- SHA-256 of the token, which is long and random
	made    BIGINT NOT NULL,
	revoked BIGINT NOT NULL DEFAULT 0
)`, `
CREATE TABLE IF NOT EXISTS builds (
	id        TEXT PRIMARY KEY,
	owner     TEXT NOT NULL,
	game      TEXT NOT NULL,
	title     TEXT NOT NULL,
	version   TEXT NOT NULL,
	sha256    TEXT NOT NULL, -- of the archive
	bytes     BIGINT NOT NULL,
	state     TEXT NOT NULL,
	problems  TEXT NOT NULL DEFAULT '[]',
	secret    TEXT NOT NULL UNIQUE, -- in the address under which it is served
	isolated  BIGINT NOT NULL DEFAULT 0,
	made      BIGINT NOT NULL
)`,
	`CREATE INDEX IF NOT EXISTS builds_of ON builds (owner, game, made)`, `
CREATE TABLE IF NOT EXISTS pieces ( -- of archives on their way
	build TEXT NOT NULL,
	start BIGINT NOT NULL, -- the first byte
	bytes BIGINT NOT NULL,
	name  TEXT NOT NULL,   -- among the files
	PRIMARY KEY (build, start)
)`, `
CREATE TABLE IF NOT EXISTS files (
	build  TEXT NOT NULL,
	path   TEXT NOT NULL,
	sha256 TEXT NOT NULL,
	bytes  BIGINT NOT NULL,
	PRIMARY KEY (build, path)
)`,
	`CREATE INDEX IF NOT EXISTS files_of ON files (sha256)`, `
CREATE TABLE IF NOT EXISTS rounds (
	id        TEXT PRIMARY KEY,
	owner     TEXT NOT NULL,
	build     TEXT NOT NULL,
	secret    TEXT NOT NULL UNIQUE, -- in its link
	play      TEXT NOT NULL UNIQUE, -- in its game's address, which only those see who may play
	made      BIGINT NOT NULL,
	until     BIGINT NOT NULL,           -- the end
	forget    BIGINT NOT NULL,           -- when all that came back is deleted
	most      BIGINT NOT NULL DEFAULT 0, -- testers; 0 for any number
	password  TEXT NOT NULL DEFAULT '',  -- bcrypt
	opens     BIGINT NOT NULL DEFAULT 0, -- how often its page was opened, by whomever
	record    BIGINT NOT NULL DEFAULT 0, -- testers are asked for a clip
	closed    BIGINT NOT NULL DEFAULT 0,
	questions TEXT NOT NULL DEFAULT '[]',
	controls  TEXT NOT NULL DEFAULT '[]'
)`, `
CREATE TABLE IF NOT EXISTS sessions (
	id        TEXT PRIMARY KEY,
	round     TEXT NOT NULL,
	made      BIGINT NOT NULL,
	device    TEXT NOT NULL,
	simulated BIGINT NOT NULL DEFAULT 0,
	last      BIGINT NOT NULL DEFAULT 0 -- the number of its last event
)`,
	`CREATE INDEX IF NOT EXISTS sessions_of ON sessions (round, made)`, `
CREATE TABLE IF NOT EXISTS batches (
	session TEXT NOT NULL,
	first   BIGINT NOT NULL, -- the number of its first event
	lines   TEXT NOT NULL,   -- as they are exported
	PRIMARY KEY (session, first)
)`, `
CREATE TABLE IF NOT EXISTS clips (
	session TEXT NOT NULL,
	n       BIGINT NOT NULL, -- pieces are joined in the order of their numbers
	bytes   BIGINT NOT NULL,
	name    TEXT NOT NULL,   -- among the files
	PRIMARY KEY (session, n)
)`,
}

// format is the version of the schema. One that changes it takes earlier data along.
const format = 1

// A database keeps what is not a file: in a file of its own, or on a PostgreSQL server that several hosts share. Queries are written
// with ? for their values.
type database struct {
	queries
	db *sql.DB
	// The embedded database has one writer at a time, and would let the others come in no order; here they wait in a queue.
	writing sync.Mutex
}

// openDatabase opens the database in a folder, or at postgres://….
func openDatabase(at string) (*database, error) {
	where, driver, source := "on the PostgreSQL server", "pgx", at
	if !shared(at) {
		where = filepath.Join(at, "host.db")
		driver, source = "sqlite",
			"file:"+where+"?_pragma=journal_mode(WAL)&_pragma=synchronous(FULL)&_pragma=busy_timeout(10000)"+
				"&_pragma=secure_delete(ON)&_txlock=immediate"
	}
	db, err := sql.Open(driver, source)
	if err != nil {
		return nil, fmt.Errorf("opening the host's data %s: %w", where, err)
	}
	if driver == "pgx" {
		db.SetMaxOpenConns(20)
		db.SetConnMaxIdleTime(5 * time.Minute)
	}
	d := &database{queries: queries{db, driver == "pgx"}, db: db}
	if err := d.prepare(); err != nil {
		return nil, fmt.Errorf("opening the host's data %s: %w", where, errors.Join(err, db.Close()))
	}
	return d, nil
}

// shared reports whether data are on a server, to which several hosts may be connected.
func shared(at string) bool {
	return strings.HasPrefix(at, "postgres://") || strings.HasPrefix(at, "postgresql://")
}

// prepare makes the tables that are not there. Two hosts that do so at once wait for each other.
func (d *database) prepare() error {
	ctx, cancel := context.WithTimeout(context.Background(), 30*time.Second)
	defer cancel()
	return d.within(ctx, func(q queries) error {
		if d.numbered {
			if _, err := q.exec(ctx, "SELECT pg_advisory_xact_lock(7440)"); err != nil {
				return err
			}
		}
		for _, s := range schema {
			if _, err := q.exec(ctx, s); err != nil {
				return err
			}
		}
		var found int
		err := q.row(ctx, "SELECT COALESCE(MAX(format), 0) FROM host").Scan(&found)
		switch {
		case err != nil || found == format:
			return err
		case found > format:
			return fmt.Errorf("they were written by a later havvel (format %d; this one knows %d)", found, format)
		}
		_, err = q.exec(ctx, "INSERT INTO host (format) VALUES (?)", format)
		return err
	})
}

func (d *database) close() error { return d.db.Close() }

func (d *database) ping(ctx context.Context) error { return d.db.PingContext(ctx) }

// exec changes something outside of a transaction.
func (d *database) exec(ctx context.Context, query string, values ...any) (sql.Result, error) {
	if !d.numbered {
		d.writing.Lock()
		defer d.writing.Unlock()
	}
	return d.queries.exec(ctx, query, values...)
}

// within runs f in a transaction, in which only its own queries are asked.
func (d *database) within(ctx context.Context, f func(queries) error) error {
	if !d.numbered {
		d.writing.Lock()
		defer d.writing.Unlock()
	}
	tx, err := d.db.BeginTx(ctx, nil)
	if err != nil {
		return err
	}
	if err := f(queries{tx, d.numbered}); err != nil {
		tx.Rollback() // the first error says more
		return err
	}
	return tx.Commit()
}

// scrub takes what was deleted out of the database's own files.
func (d *database) scrub(ctx context.Context) error {
	if d.numbered {
		return nil // the server does it in its own time
	}
	_, err := d.exec(ctx, "PRAGMA wal_checkpoint(TRUNCATE)")
	return err
}

// queries asks a database, or a transaction.
type queries struct {
	to interface {
		ExecContext(context.Context, string, ...any) (sql.Result, error)
		QueryContext(context.Context, string, ...any) (*sql.Rows, error)
		QueryRowContext(context.Context, string, ...any) *sql.Row
	}
	numbered bool // values are $1, $2 …
}

func (q queries) exec(ctx context.Context, query string, values ...any) (sql.Result, error) {
	return q.to.ExecContext(ctx, q.words(query), values...)
}

func (q queries) query(ctx context.Context, query string, values ...any) (*sql.Rows, error) {
	return q.to.QueryContext(ctx, q.words(query), values...)
}

func (q queries) row(ctx context.Context, query string, values ...any) *sql.Row {
	return q.to.QueryRowContext(ctx, q.words(query), values...)
}

// words is a query as the database takes it. No query has a ? in its own words.
func (q queries) words(query string) string {
	if !q.numbered {
		return query
	}
	var b strings.Builder
	for n := 1; ; n++ {
		before, after, more := strings.Cut(query, "?")
		b.WriteString(before)
		if !more {
			return b.String()
		}
		b.WriteString("$" + strconv.Itoa(n))
		query = after
	}
}

// one reports an error when a change did not meet exactly one row.
func one(r sql.Result, err error, otherwise error) error {
	if err != nil {
		return err
	}
	if n, err := r.RowsAffected(); err != nil || n != 1 {
		return errors.Join(otherwise, err)
	}
	return nil
}

func seconds(t time.Time) int64 { return t.Unix() }

// flag is a yes or no as the database keeps it.
func flag(v bool) int64 {
	if v {
		return 1
	}
	return 0
}

// texts are the values of rows with one column.
func texts(rows *sql.Rows, err error) ([]string, error) {
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var list []string
	for rows.Next() {
		var s string
		if err := rows.Scan(&s); err != nil {
			return nil, err
		}
		list = append(list, s)
	}
	return list, rows.Err()
}

// sqliteFull is the embedded database's code for a full disk.
const sqliteFull = 13

// full reports whether something could not be kept because a disk is full.
func full(err error) bool {
	var of *sqlite.Error
	return fault.FullDisk(err) || errors.As(err, &of) && of.Code()&0xff == sqliteFull
}
