package playhost

import (
	"context"
	"fmt"
	"time"
)

// steps lead from one version of the schema to the next, in words that both databases take. A host of the version before, which is still
// running beside this one, goes on with what they make: they only add. Times are seconds since 1970, UTC.
var steps = [][]string{
	{`
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
	},
	{
		`ALTER TABLE rounds ADD COLUMN testers BIGINT NOT NULL DEFAULT 0`,   // who agreed
		`ALTER TABLE rounds ADD COLUMN simulated BIGINT NOT NULL DEFAULT 0`, // sessions that nobody played
		`ALTER TABLE rounds ADD COLUMN ended BIGINT NOT NULL DEFAULT 0`,     // when it was closed by hand
		`ALTER TABLE rounds ADD COLUMN invited BIGINT NOT NULL DEFAULT 0`,   // only who has an invitation plays
		`ALTER TABLE rounds ADD COLUMN paused BIGINT NOT NULL DEFAULT 0`,
		`ALTER TABLE rounds ADD COLUMN studio TEXT NOT NULL DEFAULT ''`, // who asks, and how to reach them
		`ALTER TABLE rounds ADD COLUMN webhook TEXT NOT NULL DEFAULT ''`,
		`ALTER TABLE rounds ADD COLUMN told_error BIGINT NOT NULL DEFAULT 0`,
		`ALTER TABLE rounds ADD COLUMN told_full BIGINT NOT NULL DEFAULT 0`,
		`ALTER TABLE rounds ADD COLUMN texts TEXT NOT NULL DEFAULT '[]'`,
		`ALTER TABLE rounds ADD COLUMN contact TEXT NOT NULL DEFAULT ''`,
		`ALTER TABLE sessions ADD COLUMN tester TEXT NOT NULL DEFAULT ''`,    // whose they are, as the browser says
		`ALTER TABLE sessions ADD COLUMN last_own BIGINT NOT NULL DEFAULT 0`, // the number of the last event of the page's own
		`ALTER TABLE sessions ADD COLUMN bytes BIGINT NOT NULL DEFAULT 0`,    // of its events
		`ALTER TABLE sessions ADD COLUMN own_bytes BIGINT NOT NULL DEFAULT 0`,
		`ALTER TABLE sessions ADD COLUMN cut BIGINT NOT NULL DEFAULT 0`, // events that were too many
		`ALTER TABLE sessions ADD COLUMN answered BIGINT NOT NULL DEFAULT 0`,
		`UPDATE rounds SET testers = (SELECT COUNT(*) FROM sessions WHERE sessions.round = rounds.id AND sessions.simulated = 0),
			simulated = (SELECT COUNT(*) FROM sessions WHERE sessions.round = rounds.id AND sessions.simulated = 1)`,
		`UPDATE rounds SET ended = until WHERE closed = 1`,
		`UPDATE sessions SET tester = id, bytes = (SELECT COALESCE(SUM(LENGTH(lines)), 0) FROM batches WHERE batches.session = sessions.id)`,
		`CREATE INDEX sessions_by ON sessions (round, tester)`,
		`CREATE INDEX sessions_in ON sessions (round, made, id)`,
		`CREATE TABLE invitations (
			token  TEXT PRIMARY KEY,
			round  TEXT NOT NULL,
			place  BIGINT NOT NULL, -- in the list
			name   TEXT NOT NULL,
			opened BIGINT NOT NULL DEFAULT 0
		)`,
		`CREATE INDEX invitations_of ON invitations (round, place)`,
		`CREATE TABLE contents (
			sha256 TEXT PRIMARY KEY,
			bytes  BIGINT NOT NULL,
			name   TEXT NOT NULL,             -- among the files
			kept   BIGINT NOT NULL DEFAULT 0, -- it is there
			seen   BIGINT NOT NULL            -- when somebody last brought it
		)`,
		`INSERT INTO contents (sha256, bytes, name, kept, seen)
			SELECT sha256, MAX(bytes), 'files/' || substr(sha256, 1, 2) || '/' || sha256, 1, 0 FROM files GROUP BY sha256`,
		`CREATE TABLE reports ( -- pages that owners pass on
			round  TEXT PRIMARY KEY,
			secret TEXT NOT NULL UNIQUE, -- in its link
			name   TEXT NOT NULL,        -- among the files
			bytes  BIGINT NOT NULL
		)`,
		`CREATE TABLE guesses ( -- wrong passwords
			round TEXT NOT NULL,
			who   TEXT NOT NULL,   -- a keyed hash of an address
			since BIGINT NOT NULL, -- the beginning of the minute
			times BIGINT NOT NULL,
			PRIMARY KEY (round, who, since)
		)`,
	},
	{
		`ALTER TABLE builds ADD COLUMN fraction BIGINT NOT NULL DEFAULT 0`, // microseconds of made
		`ALTER TABLE rounds ADD COLUMN fraction BIGINT NOT NULL DEFAULT 0`,
		`CREATE TABLE archives ( -- of builds, that parts of later ones are taken from
			build  TEXT PRIMARY KEY,
			sha256 TEXT NOT NULL,
			bytes  BIGINT NOT NULL
		)`,
		`CREATE INDEX archives_of ON archives (sha256)`,
		`ALTER TABLE builds ADD COLUMN joint TEXT NOT NULL DEFAULT ''`,     // how the archive is put together; '' of what travels alone
		`ALTER TABLE builds ADD COLUMN travels BIGINT NOT NULL DEFAULT -1`, // bytes; -1 for all of them
	},
	{
		`CREATE INDEX builds_in ON builds (state)`,
		`CREATE INDEX rounds_by ON rounds (owner, made)`,
		`CREATE INDEX rounds_of ON rounds (build)`,
		`CREATE INDEX rounds_until ON rounds (forget)`,
	},
}

// prepare brings the schema to its latest version. Two hosts that do so at once wait for each other.
func (d *database) prepare() error {
	ctx, cancel := context.WithTimeout(context.Background(), 10*time.Minute)
	defer cancel()
	return d.within(ctx, func(q queries) error {
		if d.numbered {
			if _, err := q.exec(ctx, "SELECT pg_advisory_xact_lock(7440)"); err != nil {
				return err
			}
		}
		if _, err := q.exec(ctx, "CREATE TABLE IF NOT EXISTS host (format BIGINT NOT NULL)"); err != nil {
			return err
		}
		var found int
		err := q.row(ctx, "SELECT COALESCE(MAX(format), 0) FROM host").Scan(&found)
		switch {
		case err != nil || found == len(steps):
			return err
		case found > len(steps):
			return fmt.Errorf("they were written by a later havvel (format %d; this one knows %d)", found, len(steps))
		}
		for _, step := range steps[found:] {
			for _, s := range step {
				if _, err := q.exec(ctx, s); err != nil {
					return fmt.Errorf("bringing them to format %d: %w", len(steps), err)
				}
			}
		}
		_, err = q.exec(ctx, "INSERT INTO host (format) VALUES (?)", len(steps))
		return err
	})
}
