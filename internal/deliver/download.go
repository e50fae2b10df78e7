package deliver

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"

	"golang.org/x/sync/errgroup"

	"havvel/internal/atomicfile"
	"havvel/internal/deliver/site"
	"havvel/internal/fault"
	"havvel/internal/logbook"
	"havvel/internal/project"
)

// Keeps reports whether a destination keeps what it was sent so that Download can bring it back.
func (c *Courier) Keeps(d *project.Destination) bool {
	_, ok := c.Target(d).(*siteTarget)
	return ok
}

// Download brings the files of a delivery back from the site that keeps them, into a folder that is made. Each must be what was sent.
func (c *Courier) Download(ctx context.Context, d *project.Destination, l *logbook.Delivery, folder string) error {
	t, ok := c.Target(d).(*siteTarget)
	if !ok {
		return fault.New(fault.No, "%s doesn't give back what it was sent", d.Rules.Name)
	}
	from := l.Values.Text(folderValue)
	return t.onSite(ctx, d, func(ctx context.Context, s *site.Site) error {
		holds, err := s.Contents(ctx, from)
		if err == nil && holds == nil {
			err = &site.Gone{Folder: from}
		}
		if err != nil {
			return err
		}
		return atomicfile.Folder(folder, func(into string) error { return c.bring(ctx, s, holds, from, into) })
	})
}

// bring downloads what a version's folder holds, but for the picture that is only shown beside the game.
func (c *Courier) bring(ctx context.Context, s *site.Site, holds *site.Contents, from, into string) error {
	var total int64
	for _, h := range holds.Files {
		total += h.Bytes
	}
	c.Report.Begin("fetching", total)
	defer c.Report.End()
	work, inside := errgroup.WithContext(ctx)
	work.SetLimit(max(1, s.Store.Lanes()))
	for _, h := range holds.Files {
		if h.Name == holds.Stand.Picture {
			continue
		}
		work.Go(func() error {
			err := fetchInto(inside, s, from, h, into)
			c.Report.Advance(h.Bytes)
			return err
		})
	}
	return work.Wait()
}

func fetchInto(ctx context.Context, s *site.Site, from string, h site.Held, into string) error {
	if !filepath.IsLocal(filepath.FromSlash(h.Name)) {
		return &site.Broken{Folder: from, File: h.Name, Why: "has a name that leads out of its folder"}
	}
	to := filepath.Join(into, filepath.FromSlash(h.Name))
	if err := os.MkdirAll(filepath.Dir(to), 0o755); err != nil {
		return err
	}
	f, err := os.Create(to) // in a folder that gets its name when all is there
	if err != nil {
		return err
	}
	hash := sha256.New()
	kept := &keeping{to: io.MultiWriter(f, hash)}
	err = s.Fetch(ctx, from, h.Name, kept)
	if closed := f.Close(); kept.err == nil {
		kept.err = closed
	}
	switch {
	case kept.err != nil: // it is no matter of the host's
		return fmt.Errorf("writing %s: %w", to, kept.err)
	case errors.Is(err, os.ErrNotExist):
		return &site.Broken{Folder: from, File: h.Name, Why: "is missing"}
	case err != nil:
		return err
	case hex.EncodeToString(hash.Sum(nil)) != h.SHA256:
		return &site.Broken{Folder: from, File: h.Name, Why: "has other content"}
	}
	return nil
}

// keeping is a writer whose own failure can be told from that of what is read.
type keeping struct {
	to  io.Writer
	err error
}

func (k *keeping) Write(p []byte) (n int, err error) {
	if n, err = k.to.Write(p); err != nil {
		k.err = err
	}
	return n, err
}
