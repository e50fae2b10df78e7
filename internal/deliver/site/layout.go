package site

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"maps"
	"path"
	"slices"
	"strings"
	"time"

	"havvel/internal/deliver/site/root"
	"havvel/internal/fault"
	"havvel/internal/pieces"
	"havvel/internal/progress"
)

// Format is the version of the layout (docs/formats/site.md).
const Format = 2

// Names at a site's root. Players read the first two, which only Switch writes.
const (
	pageName     = "index.html"           // the current version's page, or one that opens it
	indexName    = "havvel.json"          // says which that is
	registerName = "havvel-versions.json" // says which versions there are
	lockName     = "havvel.lock"          // is there while somebody sends
	folderName   = "versions"             // holds a folder for each version
	listName     = "havvel-files.json"    // in a version's folder: what it holds; written when all is there
)

// A Version is one complete folder.
type Version struct {
	Folder      string    `json:"folder"`
	Version     string    `json:"version"`
	Fingerprint string    `json:"fingerprint"` // of the export
	Sent        time.Time `json:"sent"`
	Files       int       `json:"files"`
	Bytes       int64     `json:"bytes"`
	Public      bool      `json:"public,omitempty"` // it was current once; written in format 1 only
}

// Contents is what a version's folder says of itself: all that has to be known when nothing else is left.
type Contents struct {
	Format      int       `json:"havvel_site"`
	Version     string    `json:"version"`
	Fingerprint string    `json:"fingerprint"`
	Sent        time.Time `json:"sent"`
	Stand       Stand     `json:"page,omitzero"`
	Files       []Held    `json:"files"`
}

// A Stand says whether a version's entry page can be the page at the root.
type Stand struct {
	Root    bool   `json:"root"`
	Why     string `json:"why,omitempty"`            // not
	Picture string `json:"picture,omitempty"`        // for previews, its name among the files
	Worker  bool   `json:"service_worker,omitempty"` // it registers one
}

// Because is why it can't, in words.
func (s Stand) Because() string {
	if s.Why == "" {
		return "it was sent by an earlier havvel"
	}
	return s.Why
}

// Held is one file of a version.
type Held struct {
	Name   string `json:"name"`
	Bytes  int64  `json:"bytes"`
	SHA256 string `json:"sha256"`
}

// A Site is the layout on one store.
type Site struct {
	Store Store
	Keep  int           // how many versions stay; 0 for all
	Grace time.Duration // how long one stays that was public, for players who are in it
	Who   string
	Now   func() time.Time
	Lanes int        // the most files that travel at once; 0 for what the store bears
	About root.About // what the page at the root says besides the game

	Report progress.Reporter // of waiting for another one who sends

	Sketches pieces.Book // which pieces large files consist of, for the next version

	Abilities *Abilities // what is known of the host; nil for nothing

	Patience time.Duration // between two signs of life of who holds the lock; three times that without one, and it is taken over
}

// New returns the site on a store. Others who want to send at the same time see who.
func New(s Store, keep int, who string) *Site {
	return &Site{Store: s, Keep: keep, Grace: 24 * time.Hour, Who: who, Now: time.Now, Report: progress.None, Patience: 5 * time.Second}
}

// Foreign says that there is something at the root that Havvel did not write.
type Foreign struct{ Name string }

func (e *Foreign) Error() string {
	return fmt.Sprintf("there is already a file %s, which havvel did not write", e.Name)
}

// Fault tells it.
func (e *Foreign) Fault() *fault.Error {
	return fault.Tell(e, fault.No, "name a folder for this game alone in the destination's address, or move the file away")
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

// page reads the page at the root; nil where there is none, or a foreign one, that Havvel did not write.
func (s *Site) page(ctx context.Context) (data []byte, foreign bool, err error) {
	data, err = Read(ctx, s.Store, pageName)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, false, nil
	}
	if err == nil && !root.Opens(data) {
		return nil, true, nil
	}
	return data, false, err
}

// ours makes sure that Havvel wrote the page at the root, if there is one.
func (s *Site) ours(x *Index) error {
	if x.page == nil && x.hasPage {
		return &Foreign{pageName}
	}
	return nil
}

// Address is where a version's folder opens, below the site's public address.
func Address(public, folder string) string {
	return public + folderName + "/" + folder + "/index.html"
}

// Folder is the name of the folder for a version: the version, and the beginning of a fingerprint of what it holds.
func Folder(version, fingerprint string) string { return version + "-" + fingerprint[:10] }

// read reads a file. That it isn't there is believed only where its folder doesn't list it.
func (s *Site) read(ctx context.Context, name string) ([]byte, error) {
	data, err := Read(ctx, s.Store, name)
	if !errors.Is(err, fs.ErrNotExist) {
		return data, err
	}
	if listed, hidden := s.listed(ctx, name); hidden != nil {
		return nil, hidden
	} else if listed {
		return nil, &Hidden{name, err}
	}
	return nil, err
}

// listed reports whether a file or folder is named by the one that it is in.
func (s *Site) listed(ctx context.Context, name string) (bool, error) {
	in, base := path.Split(name)
	in = strings.TrimSuffix(in, "/")
	names, err := s.Store.Names(ctx, in)
	switch {
	case err == nil:
		return slices.Contains(names, base), nil
	case !errors.Is(err, fs.ErrNotExist):
		return false, err
	case in == "":
		return false, nil
	}
	there, err := s.listed(ctx, in)
	if there {
		err = &Hidden{in, fs.ErrNotExist}
	}
	return false, err
}

// Fetch writes the content of one of the files in a version's folder to somewhere.
func (s *Site) Fetch(ctx context.Context, folder, name string, to io.Writer) error {
	return s.Store.Fetch(ctx, path.Join(folderName, folder, name), to)
}

// Contents reads what a version's folder says of itself; nil when it is not complete.
func (s *Site) Contents(ctx context.Context, folder string) (*Contents, error) {
	data, err := s.read(ctx, path.Join(folderName, folder, listName))
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	var c Contents
	if json.Unmarshal(data, &c) == nil && c.Format > 0 {
		return &c, nil
	}
	if json.Unmarshal(data, &c.Files) != nil { // of format 1
		return nil, nil
	}
	c.Version = folder
	if i := strings.LastIndexByte(folder, '-'); i > 0 {
		c.Version = folder[:i]
	}
	return &c, nil
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
	c, err := s.Contents(ctx, folder)
	if err != nil {
		return err
	}
	if c == nil {
		return &Broken{folder, listName, "is missing"}
	}
	broken, _, err := s.compare(ctx, folder, c.Files)
	if err == nil && len(broken) > 0 {
		err = broken[0]
	}
	return err
}

// compare says which files of a folder are not as they are in a list, in its order, and which others there are.
func (s *Site) compare(ctx context.Context, folder string, list []Held) (broken []*Broken, others []string, err error) {
	names := make([]string, len(list))
	for i, h := range list {
		names[i] = h.Name
	}
	there, err := s.Store.List(ctx, path.Join(folderName, folder), foldersOf(names)...)
	if err != nil {
		return nil, nil, err
	}
	for _, h := range list {
		size, ok := there[h.Name]
		delete(there, h.Name)
		why := ""
		switch {
		case !ok:
			why = "is missing"
		case size != h.Bytes:
			why = fmt.Sprintf("has %d bytes instead of %d", size, h.Bytes)
		default:
			why, err = s.differs(ctx, folder, h)
			if err != nil {
				return nil, nil, err
			}
		}
		if why != "" {
			broken = append(broken, &Broken{folder, h.Name, why})
		}
	}
	delete(there, listName)
	return broken, slices.Sorted(maps.Keys(there)), nil
}

// differs says why a file of the right size is another one, where the store can tell.
func (s *Site) differs(ctx context.Context, folder string, h Held) (why string, err error) {
	summer, ok := s.Store.(Summer)
	if !ok {
		return "", nil
	}
	sum, err := summer.Sum(ctx, path.Join(folderName, folder, h.Name))
	if err == nil && sum != h.SHA256 {
		why = "has other content"
	}
	return why, err
}
