package pack

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"

	"havvel/internal/atomicfile"
	"havvel/internal/export"
	"havvel/internal/progress"
)

// folder writes the items into a folder. One that holds just these stays as it is.
func (p *Plan) folder(ctx context.Context, stem string, report progress.Reporter, judge func(string) error) (*Archive, error) {
	if a, err := p.stands(ctx, stem); err != nil || a != nil {
		if err == nil {
			err = judge(stem)
		}
		return a, err
	}
	a := p.noFiles(stem)
	err := atomicfile.Folder(stem, func(folder string) error {
		if err := p.fill(ctx, folder, a, report); err != nil {
			return err
		}
		return judge(folder)
	})
	return a, err
}

// fill writes the items into a folder that becomes the archive.
func (p *Plan) fill(ctx context.Context, folder string, a *Archive, report progress.Reporter) error {
	var total int64
	for _, it := range p.Items {
		total += it.Size()
	}
	report.Begin("writing", total)
	defer report.End()
	for _, it := range p.Items {
		w, err := it.write(ctx, filepath.Join(folder, filepath.FromSlash(it.Name)))
		if err != nil {
			return err
		}
		p.enter(a, it, w)
		report.Advance(w.bytes)
	}
	a.SHA256 = summed(a.Files)
	return nil
}

func (p *Plan) noFiles(stem string) *Archive { return &Archive{Path: stem, Entries: len(p.Items)} }

// enter adds an item to the files of a folder.
func (p *Plan) enter(a *Archive, it *Item, w wrote) {
	a.Bytes += w.bytes
	a.Files = append(a.Files, Content{it.Name, filepath.Join(a.Path, filepath.FromSlash(it.Name)), w.bytes, w.sha256, p.encoding(it.Name)})
}

// summed is the SHA-256 of a folder.
func summed(files []Content) string {
	whole := sha256.New()
	for _, f := range files {
		fmt.Fprintf(whole, "%s %s\n", f.SHA256, f.Name)
	}
	return hex.EncodeToString(whole.Sum(nil))
}

// SumOf is the SHA-256 that a folder has as an archive, in hex.
func SumOf(b *export.Build) string {
	var files []Content
	for _, f := range b.Parts() {
		files = append(files, Content{Name: b.Inside(f), SHA256: hex.EncodeToString(f.SHA256[:])})
	}
	slices.SortFunc(files, func(a, b Content) int { return cmpNames(a.Name, b.Name) })
	return summed(files)
}

// stands is the archive that a folder is already: it holds the items, byte for byte, and nothing else. It is nil where it isn't, since
// something was changed, or nothing was written yet.
func (p *Plan) stands(ctx context.Context, folder string) (*Archive, error) {
	there := map[string]int64{}
	err := filepath.WalkDir(folder, func(at string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		info, err := d.Info()
		if err == nil && !info.Mode().IsRegular() {
			err = fs.ErrInvalid
		}
		if err != nil {
			return err
		}
		name, err := filepath.Rel(folder, at)
		there[filepath.ToSlash(name)] = info.Size()
		return err
	})
	if err != nil || len(there) != len(p.Items) {
		return nil, nil
	}
	for _, it := range p.Items {
		if size, ok := there[it.Name]; !ok || size != it.Size() {
			return nil, nil
		}
	}
	a := p.noFiles(folder)
	for _, it := range p.Items {
		same, w, err := it.compare(ctx, filepath.Join(folder, filepath.FromSlash(it.Name)))
		if err != nil || !same {
			return nil, err
		}
		p.enter(a, it, w)
	}
	a.SHA256 = summed(a.Files)
	return a, nil
}

// compare reports whether a file holds an item.
func (it *Item) compare(ctx context.Context, path string) (same bool, w wrote, err error) {
	hash := func(r io.ReadCloser, err error) (sum [sha256.Size]byte, n int64, _ error) {
		if err != nil {
			return sum, 0, err
		}
		defer r.Close()
		h := sha256.New()
		n, err = io.Copy(h, progress.Reader(ctx, r, progress.None))
		return [sha256.Size]byte(h.Sum(nil)), n, err
	}
	f, err := os.Open(path)
	has, n, err := hash(f, err)
	if err != nil {
		return false, w, ctx.Err() // it can't be read: it is written
	}
	want := [sha256.Size]byte{}
	if it.changed() {
		if want, _, err = hash(it.Open()); err != nil {
			return false, w, err
		}
	} else {
		want = it.From.SHA256
	}
	return has == want, wrote{n, hex.EncodeToString(has[:])}, nil
}
