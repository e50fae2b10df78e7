package pack

import (
	"archive/zip"
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"io"
	"os"
	"strings"
	"time"

	"github.com/klauspost/compress/flate"

	"havvel/internal/check"
	"havvel/internal/export"
	"havvel/internal/place"
	"havvel/internal/progress"
)

// An Archive is what a plan became.
type Archive struct {
	Path    string
	Bytes   int64
	SHA256  string // hex
	Entries int
}

// written is the time of every entry: the same input gives the same bytes.
var written = time.Date(1980, 1, 1, 0, 0, 0, 0, time.UTC)

// Write writes the archive to path, as a zip (PKWARE APPNOTE 6.3.10) with forward slashes, UTF-8 names,
// and fixed times and modes. It is read back and checked before it gets its name; when anything fails, path
// is as it was before. The error is *Faulty when the destination's checks found errors.
func (p *Plan) Write(ctx context.Context, path string, report progress.Reporter) (*Archive, error) {
	a := &Archive{Path: path, Entries: len(p.Items)}
	var total int64
	for i := range p.Items {
		total += p.Items[i].size()
	}
	report.Begin("packing", total)
	defer report.End()
	err := place.File(path, func(f *os.File) error {
		hash := sha256.New()
		out := zip.NewWriter(io.MultiWriter(f, hash))
		out.RegisterCompressor(zip.Deflate, func(w io.Writer) (io.WriteCloser, error) { return flate.NewWriter(w, 6) })
		for i := range p.Items {
			if err := p.Items[i].write(ctx, out, report); err != nil {
				return fmt.Errorf("packing %s: %w", p.Items[i].From.Path, err)
			}
		}
		if err := out.Close(); err != nil {
			return fmt.Errorf("writing %s: %w", path, err)
		}
		var err error
		if a.Bytes, err = f.Seek(0, io.SeekCurrent); err != nil {
			return err
		}
		a.SHA256 = hex.EncodeToString(hash.Sum(nil))
		return p.verify(ctx, f.Name())
	})
	if err != nil {
		return nil, err
	}
	return a, nil
}

func (it *Item) size() int64 {
	if it.content != nil {
		return int64(len(it.content))
	}
	return it.From.Bytes
}

func (it *Item) write(ctx context.Context, out *zip.Writer, report progress.Reporter) error {
	if err := ctx.Err(); err != nil {
		return err
	}
	header := &zip.FileHeader{Name: it.Name, Method: zip.Deflate, Modified: written}
	if gainsNothing(it.From) {
		header.Method = zip.Store
	}
	header.SetMode(0o644)
	w, err := out.CreateHeader(header)
	if err != nil {
		return err
	}
	if it.content != nil {
		_, err := io.Copy(w, &progress.Reader{Ctx: ctx, R: bytes.NewReader(it.content), To: report})
		return err
	}
	r, err := it.From.Open()
	if err != nil {
		return err
	}
	defer r.Close()
	hash := sha256.New()
	if _, err := io.Copy(io.MultiWriter(w, hash), &progress.Reader{Ctx: ctx, R: r, To: report}); err != nil {
		return err
	}
	if [sha256.Size]byte(hash.Sum(nil)) != it.From.SHA256 {
		return fmt.Errorf("it changed while it was packed; wait until the engine has finished writing, and try again")
	}
	return nil
}

// gainsNothing reports whether a file is compressed already.
func gainsNothing(f *export.File) bool {
	return f.Encoding != "" || f.Kind == export.KindVideo || f.Kind == export.KindArchive
}

// verify reads the new archive as the destination will, and judges it by the destination's checks. Every
// entry must be there with its check sum, under the name that was planned.
func (p *Plan) verify(ctx context.Context, path string) error {
	b, err := export.Read(ctx, path)
	if err != nil {
		return fmt.Errorf("reading the new archive back: %w", err)
	}
	defer b.Close()
	if len(b.Files) != len(p.Items) {
		return fmt.Errorf("reading the new archive back: it has %d files where %d were planned", len(b.Files), len(p.Items))
	}
	for _, it := range p.Items {
		f := b.File(it.Name)
		if f == nil || it.content == nil && f.SHA256 != it.From.SHA256 {
			return fmt.Errorf("reading the new archive back: %s is not as planned", it.Name)
		}
	}
	findings := check.Run(check.Subject{Build: b, Destination: p.to.Destination, Rules: p.to.Rules, Accepts: p.to.Accepts})
	if check.Errors(findings) > 0 {
		return &Faulty{findings}
	}
	return nil
}

// A Faulty error says that the destination would not take the archive. No archive was left behind.
type Faulty struct{ Findings []check.Finding }

func (e *Faulty) Error() string {
	for _, f := range e.Findings {
		if f.Level == check.Error && f.Accepted == "" {
			return "the archive would not be taken: " + strings.TrimSpace(f.File+" "+f.Message)
		}
	}
	return "the archive would not be taken"
}
