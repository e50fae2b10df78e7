package site

import (
	"bytes"
	"cmp"
	"context"
	"crypto/sha256"
	_ "embed"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path"
	"slices"
	"time"

	"havvel/internal/fault"
	"havvel/internal/progress"
)

// Format is the version of the layout (docs/formats/site.md).
const Format = 1

// Names at a site's root.
const (
	indexName  = "havvel.json"       // says which version is current
	pageName   = "index.html"        // opens it
	lockName   = "havvel.lock"       // is there while somebody sends
	folderName = "versions"          // holds a folder for each version
	listName   = "havvel-files.json" // in a version's folder: what it holds; written when all is there
)

// An Index is the small file that says which version is current, and which there are.
type Index struct {
	Format     int       `json:"havvel_site"`
	Current    string    `json:"current"` // name of a version's folder; "" for none
	Versions   []Version `json:"versions"`
	Unfinished []string  `json:"unfinished,omitempty"` // folders that an upload began
}

// A Version is one complete folder.
type Version struct {
	Folder      string    `json:"folder"`
	Version     string    `json:"version"`
	Fingerprint string    `json:"fingerprint"` // of the export
	Sent        time.Time `json:"sent"`
	Files       int       `json:"files"`
	Bytes       int64     `json:"bytes"`
	Public      bool      `json:"public"` // it was current once
}

// Held is one file of a version.
type Held struct {
	Name   string `json:"name"`
	Bytes  int64  `json:"bytes"`
	SHA256 string `json:"sha256"`
}

// Find returns the version in a folder, or nil.
func (x *Index) Find(folder string) *Version {
	if i := slices.IndexFunc(x.Versions, func(v Version) bool { return v.Folder == folder }); i >= 0 {
		return &x.Versions[i]
	}
	return nil
}

// A Site is the layout on one store.
type Site struct {
	Store Store
	Keep  int // how many versions stay; 0 for all
	Who   string
	Now   func() time.Time

	Report progress.Reporter // of waiting for another one who sends

	Patience time.Duration // between two signs of life of who holds the lock; three times that without one, and it is taken over
}

// New returns the site on a store. Others who want to send at the same time see who.
func New(s Store, keep int, who string) *Site {
	return &Site{Store: s, Keep: keep, Who: who, Now: time.Now, Report: progress.None, Patience: 5 * time.Second}
}

// Foreign says that there is something at the root that Havvel did not write.
type Foreign struct{ Name string }

func (e *Foreign) Error() string {
	return fmt.Sprintf("there is a %s that havvel did not write", e.Name)
}

// Fault tells it.
func (e *Foreign) Fault() *fault.Error {
	return fault.Tell(e, fault.No, "name a folder for this game alone in the destination's address, or move the file away")
}

// Index reads the index; an empty one when nothing was sent yet.
func (s *Site) Index(ctx context.Context) (*Index, error) {
	data, err := s.Store.Read(ctx, indexName)
	if errors.Is(err, fs.ErrNotExist) {
		return &Index{Format: Format}, nil
	}
	if err != nil {
		return nil, err
	}
	var x Index
	if err := json.Unmarshal(data, &x); err != nil || x.Format == 0 {
		return nil, &Foreign{indexName}
	}
	if x.Format > Format {
		return nil, fmt.Errorf("the site was written by a newer havvel (format %d); this one knows %d", x.Format, Format)
	}
	return &x, nil
}

func (s *Site) write(ctx context.Context, x *Index) error {
	x.Format = Format
	data, err := json.MarshalIndent(x, "", "  ")
	if err != nil {
		return err
	}
	return s.Store.Swap(ctx, small(indexName, append(data, '\n'), "application/json", "no-store"))
}

func small(name string, data []byte, kind, cache string) File {
	sum := sha256.Sum256(data)
	return File{
		Name:   name,
		Bytes:  int64(len(data)),
		SHA256: hex.EncodeToString(sum[:]),
		Type:   kind,
		Cache:  cache,
		Open: func() (io.ReadSeekCloser, error) {
			return struct {
				io.ReadSeeker
				io.Closer
			}{bytes.NewReader(data), io.NopCloser(nil)}, nil
		},
	}
}

//go:embed open.html
var openPage []byte

// ours stands in the page that opens the current version.
var ours = []byte(`<meta name="generator" content="havvel site 1">`)

// page makes sure that the page at the root is ours.
func (s *Site) page(ctx context.Context) error {
	data, err := s.Store.Read(ctx, pageName)
	switch {
	case err == nil && bytes.Equal(data, openPage):
		return nil
	case err == nil && !bytes.Contains(data, ours):
		return &Foreign{pageName}
	case err != nil && !errors.Is(err, fs.ErrNotExist):
		return err
	}
	return s.Store.Swap(ctx, small(pageName, openPage, "text/html; charset=utf-8", "no-cache"))
}

// Address is where a version's folder opens, below the site's public address.
func Address(public, folder string) string {
	return public + folderName + "/" + folder + "/index.html"
}

// Folder is the name of the folder for a version: the version, and the beginning of a fingerprint of what it holds.
func Folder(version, fingerprint string) string { return version + "-" + fingerprint[:10] }

// Held reads what a version holds; nil when it is not complete.
func (s *Site) Held(ctx context.Context, folder string) ([]Held, error) {
	data, err := s.Store.Read(ctx, path.Join(folderName, folder, listName))
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	var list []Held
	if json.Unmarshal(data, &list) != nil {
		return nil, nil
	}
	return list, nil
}

// Broken says that a version is not as it was sent.
type Broken struct {
	Folder, File, Why string
}

func (e *Broken) Error() string {
	return fmt.Sprintf("the version in %s is not as it was sent: %s %s", e.Folder, e.File, e.Why)
}

// Fault tells it.
func (e *Broken) Fault() *fault.Error {
	return fault.Tell(e, fault.No, "send the version again with --again; only what is missing is uploaded")
}

// Verify compares what is there with what was sent: every file's size, and its hash where the store can tell it.
func (s *Site) Verify(ctx context.Context, folder string) error {
	list, err := s.Held(ctx, folder)
	if err != nil {
		return err
	}
	if list == nil {
		return &Broken{folder, listName, "is missing"}
	}
	return s.compare(ctx, folder, list)
}

func (s *Site) compare(ctx context.Context, folder string, list []Held) error {
	there, err := s.Store.List(ctx, path.Join(folderName, folder))
	if err != nil {
		return err
	}
	summer, sums := s.Store.(Summer)
	for _, h := range list {
		size, ok := there[h.Name]
		switch {
		case !ok:
			return &Broken{folder, h.Name, "is missing"}
		case size != h.Bytes:
			return &Broken{folder, h.Name, fmt.Sprintf("has %d bytes instead of %d", size, h.Bytes)}
		}
		if sums {
			sum, err := summer.Sum(ctx, path.Join(folderName, folder, h.Name))
			if err != nil {
				return err
			}
			if sum != h.SHA256 {
				return &Broken{folder, h.Name, "has other content"}
			}
		}
	}
	return nil
}

// Switch makes a version current, or none when folder is "". It looks at it first. The switch is one write, and the last one.
func (s *Site) Switch(ctx context.Context, folder string) error {
	return s.alone(ctx, func(ctx context.Context) error {
		x, err := s.Index(ctx)
		if err != nil {
			return err
		}
		if folder != "" {
			v := x.Find(folder)
			if v == nil {
				return &Gone{folder}
			}
			if err := s.Verify(ctx, folder); err != nil {
				return err
			}
			v.Public = true
		}
		if err := s.page(ctx); err != nil {
			return err
		}
		x.Current = folder
		return s.write(ctx, x)
	})
}

// Gone says that a version is not on the site any more.
type Gone struct{ Folder string }

func (e *Gone) Error() string {
	return fmt.Sprintf("%s is not there any more; send that version again", e.Folder)
}

// Fault tells it.
func (e *Gone) Fault() *fault.Error { return fault.Tell(e, fault.No, "send that version again") }

// prune takes away what is more than Keep versions, the oldest first, and never the current one; and what uploads left that
// did not end. Only folders that the index names are touched.
func (s *Site) prune(ctx context.Context, x *Index, fresh string) error {
	slices.SortStableFunc(x.Versions, func(a, b Version) int { return cmp.Compare(a.Sent.UnixNano(), b.Sent.UnixNano()) })
	var gone []string
	for s.Keep > 0 && len(x.Versions) > s.Keep {
		i := slices.IndexFunc(x.Versions, func(v Version) bool { return v.Folder != x.Current && v.Folder != fresh })
		if i < 0 {
			break
		}
		gone = append(gone, x.Versions[i].Folder)
		x.Versions = slices.Delete(x.Versions, i, i+1)
	}
	for _, folder := range x.Unfinished {
		if x.Find(folder) == nil && folder != fresh {
			gone = append(gone, folder)
		}
	}
	x.Unfinished = gone // until they are taken away
	if err := s.write(ctx, x); err != nil || len(gone) == 0 {
		return err
	}
	for _, folder := range gone {
		if err := s.Store.Remove(ctx, path.Join(folderName, folder)); err != nil {
			return err
		}
	}
	x.Unfinished = nil
	return s.write(ctx, x)
}
