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
	c, err := d.db.Conn(ctx)
	if err != nil {
		return err
	}
	defer c.Close()
	// Nobody is waited for: who reads or writes just now goes first, and the next time takes it along.
	_, err = c.ExecContext(ctx, "PRAGMA busy_timeout(0)")
	if err == nil {
		_, err = c.ExecContext(ctx, "PRAGMA wal_checkpoint(TRUNCATE)")
	}
	if err != nil {
		_, err = c.ExecContext(ctx, "PRAGMA wal_checkpoint(PASSIVE)")
	}
	_, restored := c.ExecContext(context.WithoutCancel(ctx), "PRAGMA busy_timeout(10000)")
	return errors.Join(err, restored)
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

// fraction is what seconds leaves out, in microseconds.
func fraction(t time.Time) int64 { return int64(t.Nanosecond() / 1000) }

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
