package site

import (
	"bytes"
	"context"
	_ "embed"
	"fmt"
	"path"
	"slices"
	"time"
	"unicode/utf8"

	"havvel/internal/deliver/site/root"
	"havvel/internal/fault"
)

// A Change is what Switch did.
type Change struct {
	Before string // the folder that was current; "" for none
	Left   error  // what could not be cleared away; that waits for the next switch
	Page   []byte // at the root now
}

// Switch makes a version current, or none when folder is "". It looks at it first. The switch is one write, of the page at the root; what
// is more than Keep versions is taken away after it. Unless over, a version isn't replaced by one that was sent before it, nor one that
// somebody else made current after this one was sent.
func (s *Site) Switch(ctx context.Context, folder string, over bool) (change Change, err error) {
	err = s.alone(ctx, func(ctx context.Context) error {
		x, err := s.Index(ctx)
		if err != nil {
			return err
		}
		if folder != "" {
			if err := s.ready(ctx, x, folder, over); err != nil {
				return err
			}
		}
		if err := s.ours(x); err != nil {
			return err
		}
		if change.Page, err = s.pageFor(ctx, folder); err != nil {
			return err
		}
		change.Before = x.before(folder)
		now := s.Now().UTC()
		if x.Current != folder {
			x.Was = append(x.Was, Turn{folder, now})
			x.Was = x.Was[max(0, len(x.Was)-mostTurns):]
		}
		x.Current, x.By, x.At = folder, s.Who, now
		if err := s.front(ctx, x); err != nil {
			return err
		}
		if !bytes.Equal(change.Page, x.page) {
			if err := s.Store.Swap(ctx, small(pageName, change.Page, pageType(change.Page), "no-cache")); err != nil {
				return err
			}
		}
		change.Left = s.prune(ctx, x, change.Before)
		return nil
	})
	return change, err
}

// pageFor is the page at the root for a version, or for none.
func (s *Site) pageFor(ctx context.Context, folder string) ([]byte, error) {
	about := s.About
	if about.Folder = folder; folder == "" {
		return root.Open(about), nil
	}
	c, err := s.Contents(ctx, folder)
	if err != nil {
		return nil, err
	}
	if c == nil {
		return nil, &Broken{folder, listName, "is missing"}
	}
	about.Picture = c.Stand.Picture
	if !c.Stand.Root {
		return root.Open(about), nil
	}
	entry, err := Read(ctx, s.Store, path.Join(folderName, folder, pageName))
	if err != nil {
		return nil, err
	}
	return root.Page(entry, about)
}

// pageType is a page's type; one that isn't UTF-8 must not be called so.
func pageType(page []byte) string {
	if utf8.Valid(page) {
		return "text/html; charset=utf-8"
	}
	return "text/html"
}

// before is what was current before a version, which may be current itself.
func (x *Index) before(folder string) string {
	if x.Current != folder {
		return x.Current
	}
	for _, t := range slices.Backward(x.Was) {
		if t.Folder != folder {
			return t.Folder
		}
	}
	return ""
}

// ready looks whether a version can become current.
func (s *Site) ready(ctx context.Context, x *Index, folder string, over bool) error {
	v := x.Find(folder)
	if v == nil {
		return &Gone{folder}
	}
	if now := x.Find(x.Current); now != nil && now.Folder != folder && !over {
		if now.Sent.After(v.Sent) {
			return &Newer{Public: now.Version, Sent: now.Sent, Version: v.Version}
		}
		if x.By != "" && x.By != s.Who && x.At.After(v.Sent) {
			return &Newer{Public: now.Version, Who: x.By, Sent: x.At, Version: v.Version}
		}
	}
	return s.Verify(ctx, folder)
}

// Newer says that a version would replace one that it doesn't know of.
type Newer struct {
	Public, Version string
	Who             string // who made it public after this version was sent; "" when it was sent later itself
	Sent            time.Time
}

func (e *Newer) Error() string {
	when := e.Sent.Local().Format("2 January 15:04")
	if e.Who != "" {
		return fmt.Sprintf("version %s was sent before %s made %s public (%s)", e.Version, e.Who, e.Public, when)
	}
	return fmt.Sprintf("version %s was sent before %s, which is public (sent %s)", e.Version, e.Public, when)
}

// Fault tells it.
func (e *Newer) Fault() *fault.Error {
	return fault.Tell(e, fault.No, "havvel publish --over replaces it all the same; havvel back goes to an earlier version")
}

// Gone says that a version is not on the site any more.
type Gone struct{ Folder string }

func (e *Gone) Error() string { return fmt.Sprintf("%s is not there any more", e.Folder) }

// Fault tells it.
func (e *Gone) Fault() *fault.Error { return fault.Tell(e, fault.No, "send that version again") }

//go:embed led-on.html
var ledOn []byte

// prune takes away what is more than Keep versions, the oldest first, and what uploads left that did not end. The current version stays,
// the one before it, which a switch may be taken back to, and one that players could come into within the Grace. Only folders that the
// index names are touched, and a page stays in the place of one that was public, which leads on to the site's own.
func (s *Site) prune(ctx context.Context, x *Index, before string) error {
	now := s.Now()
	gone := s.tooMany(x, before, now)
	for _, folder := range x.Unfinished {
		if x.Find(folder) == nil && !slices.Contains(gone, folder) {
			gone = append(gone, folder)
		}
	}
	x.Unfinished = gone // until they are taken away
	if err := s.register(ctx, x); err != nil || len(gone) == 0 {
		return err
	}
	for _, folder := range gone {
		root := path.Join(folderName, folder)
		if err := s.Store.Remove(ctx, root); err != nil {
			return err
		}
		if x.LastSeen(folder, now).IsZero() {
			continue // nobody has its address
		}
		if err := s.Store.Swap(ctx, small(path.Join(root, pageName), ledOn, "text/html; charset=utf-8", "no-cache")); err != nil {
			return err
		}
	}
	x.Unfinished = nil
	return s.register(ctx, x)
}

// tooMany takes versions that are more than Keep out of the index, and returns their folders.
func (s *Site) tooMany(x *Index, before string, now time.Time) (gone []string) {
	stays := func(v Version) bool {
		last := x.LastSeen(v.Folder, now)
		return v.Folder == x.Current || v.Folder == before || !last.IsZero() && s.Grace > 0 && now.Sub(last) < s.Grace
	}
	for s.Keep > 0 && len(x.Versions) > s.Keep {
		i := slices.IndexFunc(x.Versions, func(v Version) bool { return !stays(v) })
		if i < 0 {
			break
		}
		gone = append(gone, x.Versions[i].Folder)
		x.Versions = slices.Delete(x.Versions, i, i+1)
	}
	return gone
}
