package playhost

import (
	"context"
	"crypto/sha256"
	"database/sql"
	"encoding/hex"
	"errors"
	"fmt"
	"hash"
	"io"
	"os"
	"time"

	"havvel/internal/disk"
	"havvel/internal/playhost/files"
)

// A content is what is in files, kept once by its SHA-256.
type content struct {
	sha256 string
	bytes  int64
	name   string // among the files
	kept   bool   // it is there
}

// claim finds where contents are kept, or where they are to be kept, and notes that somebody brings them, so that none of them is taken
// away meanwhile. A content that was taken away is kept under another name when it comes again.
func (h *Host) claim(ctx context.Context, list []*content) error {
	now := seconds(h.options.Now())
	return h.data.within(ctx, func(q queries) error {
		for _, c := range list {
			err := q.row(ctx, `INSERT INTO contents (sha256, bytes, name, seen) VALUES (?, ?, ?, ?)
				ON CONFLICT (sha256) DO UPDATE SET seen = excluded.seen RETURNING name, kept`,
				c.sha256, c.bytes, "files/"+c.sha256[:2]+"/"+c.sha256+"-"+newID()[:8], now).Scan(&c.name, &c.kept)
			if err != nil {
				return err
			}
		}
		return nil
	})
}

// noteKept notes that contents are there.
func noteKept(ctx context.Context, q queries, list []*content) error {
	for _, c := range list {
		if _, err := q.exec(ctx, "UPDATE contents SET kept = 1 WHERE sha256 = ? AND name = ?", c.sha256, c.name); err != nil {
			return err
		}
	}
	return nil
}

// unclaimed is how long a content stays that no build holds: longer than any upload takes.
const unclaimed = 24 * time.Hour

// collect takes away contents that no build holds, a few at a time, and nothing waits for it.
func (h *Host) collect(ctx context.Context) error {
	const few = 200
	for {
		names, err := texts(h.data.query(ctx, `DELETE FROM contents WHERE sha256 IN (SELECT sha256 FROM contents WHERE seen < ? AND
			NOT EXISTS (SELECT 1 FROM files WHERE files.sha256 = contents.sha256) AND
			NOT EXISTS (SELECT 1 FROM archives WHERE archives.sha256 = contents.sha256) LIMIT ?) RETURNING name`,
			seconds(h.options.Now().Add(-unclaimed)), few))
		if err != nil {
			return err
		}
		if err := h.files.Remove(ctx, names...); err != nil {
			return err
		}
		if len(names) < few {
			return nil
		}
	}
}

// openContent opens a content.
func (h *Host) openContent(ctx context.Context, f *servedFile) (io.ReadSeekCloser, error) {
	return h.files.Open(ctx, f.name)
}

// readContent reads a small content.
func (h *Host) readContent(ctx context.Context, f *servedFile) ([]byte, error) {
	r, err := h.openContent(ctx, f)
	if err != nil {
		return nil, err
	}
	defer r.Close()
	return io.ReadAll(r)
}

// spool gives do a file for what is on its way, and takes it away.
func spool(s files.Store, do func(disk.File) error) error {
	f, err := s.Scratch()
	if err != nil {
		return err
	}
	defer os.Remove(f.Name())
	return errors.Join(do(f), f.Close())
}

func sumOf(h hash.Hash) string { return hex.EncodeToString(h.Sum(nil)) }

// measure reads to the end, up to most bytes, and says what it is. The error is errTooMuch when there is more.
func measure(r io.Reader, most int64) (sum string, n int64, err error) {
	hash := sha256.New()
	if n, err = io.Copy(hash, io.LimitReader(r, most+1)); err == nil && n > most {
		err = errTooMuch
	}
	return sumOf(hash), n, err
}

// keep keeps what r gives, which must be a content that was measured.
func (h *Host) keep(ctx context.Context, c *content, r io.Reader) error {
	return spool(h.files, func(f disk.File) error {
		hash := sha256.New()
		if _, err := io.Copy(f, io.TeeReader(io.LimitReader(r, c.bytes+1), hash)); err != nil {
			return err
		}
		if sumOf(hash) != c.sha256 {
			return fmt.Errorf("the content %.8s is another one when it is read again", c.sha256)
		}
		return h.files.Put(ctx, c.name, f)
	})
}

var errTooMuch = errors.New("it holds more than is taken")

// heldBy is how many bytes an owner keeps here: contents, each once, archives that are on their way, and what came back of rounds.
func (h *Host) heldBy(ctx context.Context, owner string) (bytes int64, err error) {
	for _, query := range []string{
		`SELECT COALESCE(SUM(bytes), 0) FROM (SELECT DISTINCT files.sha256, files.bytes FROM files JOIN builds ON builds.id = files.build
			WHERE builds.owner = ?) AS kept`,
		`SELECT COALESCE(SUM(bytes), 0) FROM (SELECT DISTINCT archives.sha256, archives.bytes FROM archives
			JOIN builds ON builds.id = archives.build WHERE builds.owner = ?) AS archived`,
		`SELECT COALESCE(SUM(pieces.bytes), 0) FROM pieces JOIN builds ON builds.id = pieces.build WHERE builds.owner = ?`,
		`SELECT COALESCE(SUM(sessions.bytes + sessions.own_bytes), 0) FROM sessions JOIN rounds ON rounds.id = sessions.round
			WHERE rounds.owner = ?`,
		`SELECT COALESCE(SUM(clips.bytes), 0) FROM clips JOIN sessions ON sessions.id = clips.session
			JOIN rounds ON rounds.id = sessions.round WHERE rounds.owner = ?`,
		`SELECT COALESCE(SUM(reports.bytes), 0) FROM reports JOIN rounds ON rounds.id = reports.round WHERE rounds.owner = ?`,
	} {
		var n int64
		if err := h.data.row(ctx, query, owner).Scan(&n); err != nil && !errors.Is(err, sql.ErrNoRows) {
			return 0, err
		}
		bytes += n
	}
	return bytes, nil
}

// joined reads files one after another.
type joined struct {
	ctx   context.Context
	files files.Store
	names []string
	now   io.ReadCloser
}

func (j *joined) Read(p []byte) (int, error) {
	for {
		if j.now == nil {
			if len(j.names) == 0 {
				return 0, io.EOF
			}
			var err error
			if j.now, err = j.files.Open(j.ctx, j.names[0]); err != nil {
				return 0, fmt.Errorf("opening a piece: %w", err)
			}
			j.names = j.names[1:]
		}
		n, err := j.now.Read(p)
		if !errors.Is(err, io.EOF) {
			return n, err
		}
		j.Close()
		if n > 0 {
			return n, nil
		}
	}
}

func (j *joined) Close() error {
	if j.now == nil {
		return nil
	}
	now := j.now
	j.now = nil
	return now.Close()
}
