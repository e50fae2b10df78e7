package export

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/gob"
	"encoding/hex"
	"path/filepath"
	"time"

	"havvel/internal/atomicfile"
	"havvel/internal/export/link"
)

// A Cache keeps what was read of exports, so that only files that changed are read again. It lives in a folder that
// can be deleted at any time.
type Cache struct {
	Now func() time.Time // the clock

	folder string
}

// NewCache returns the cache in that folder, which need not exist yet.
func NewCache(folder string) *Cache { return &Cache{time.Now, folder} }

// cacheFormat changes whenever what is kept, or how it is worked out, does.
const cacheFormat = 31

// tooFresh is how old a file must be for its time to tell whether it changed: systems count time in steps, and a
// file may be written twice within one.
const tooFresh = 2 * time.Second

// kept is what a cache file holds of one export.
type kept struct {
	Format int
	Facts  map[string]facts // by path
}

// facts are those parts of a File that were worked out from its bytes.
type facts struct {
	Stamp string
	File  File
	Links []link.Link
}

// Read reads an export as Read does, but takes what it knows of files that have not changed. A cache that can't be read
// or written is as good as none.
func (c *Cache) Read(ctx context.Context, path string) (*Build, error) {
	b := &Build{Path: path}
	var err error
	if b.source, err = openSource(path); err != nil {
		return nil, err
	}
	file := c.file(path)
	b.known = load(file)
	if err := b.read(ctx); err != nil {
		b.source.Close()
		return nil, err
	}
	if b.news {
		save(file, b.Files, c.Now())
	}
	return b, nil
}

// file is where the cache keeps what it knows of an export.
func (c *Cache) file(path string) string {
	if whole, err := filepath.Abs(path); err == nil {
		path = whole
	}
	name := sha256.Sum256([]byte(path))
	return filepath.Join(c.folder, "export-"+hex.EncodeToString(name[:8])+".gob")
}

func load(file string) map[string]facts {
	data, ok := atomicfile.Kept(file)
	if !ok {
		return nil
	}
	var k kept
	if gob.NewDecoder(bytes.NewReader(data)).Decode(&k) != nil || k.Format != cacheFormat {
		return nil
	}
	return k.Facts
}

// save writes down what is known of files that are old enough. It makes no difference to the answer when it fails.
func save(file string, files []*File, now time.Time) {
	k := kept{cacheFormat, map[string]facts{}}
	for _, f := range files {
		if f.stamp != "" && now.Sub(f.settled) > tooFresh {
			k.Facts[f.Path] = facts{f.stamp, *f, f.links}
		}
	}
	var b bytes.Buffer
	if gob.NewEncoder(&b).Encode(k) == nil {
		_ = atomicfile.Keep(file, b.Bytes())
	}
}

// recall takes what is known of a file, if it has not changed since.
func (f *File) recall(known map[string]facts) bool {
	k, ok := known[f.Path]
	if !ok || k.Stamp != f.stamp || f.stamp == "" {
		return false
	}
	was := k.File
	was.links, was.stamp, was.settled, was.changed, was.open = k.Links, f.stamp, f.settled, f.changed, f.open
	*f = was
	return true
}
