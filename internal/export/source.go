package export

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"unicode/utf8"
)

// A source is where the files of an export come from.
type source interface {
	kind() string
	// list returns all files, in any order, each with a path, a size and a way to open it.
	list() ([]*File, error)
	Close() error
}

func openSource(path string) (source, error) {
	info, err := os.Stat(path)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return nil, &Unreadable{Path: path, Reason: "there is nothing there", Next: "name the folder or zip that the engine wrote"}
	case err != nil:
		return nil, &Unreadable{Path: path, Reason: "it can't be opened", Cause: err}
	case info.IsDir():
		whole, err := filepath.EvalSymlinks(path) // it may itself be a link to the folder
		if err != nil {
			return nil, &Unreadable{Path: path, Reason: "it can't be opened", Cause: err}
		}
		return folder(whole), nil
	}
	return openFile(path, info.Size())
}

func openFile(path string, size int64) (source, error) {
	f, err := os.Open(path)
	if err != nil {
		return nil, &Unreadable{Path: path, Reason: "it can't be opened", Cause: err}
	}
	head := make([]byte, 512)
	n, err := io.ReadFull(f, head)
	if err != nil && !errors.Is(err, io.ErrUnexpectedEOF) && !errors.Is(err, io.EOF) {
		f.Close()
		return nil, &Unreadable{Path: path, Reason: "it can't be read", Cause: err}
	}
	switch head = head[:n]; {
	case strings.HasPrefix(string(head), "PK\x03\x04") || strings.HasPrefix(string(head), "PK\x05\x06"):
		return openZip(path, f, size)
	case strings.EqualFold(filepath.Ext(path), ".zip"):
		f.Close()
		return nil, &Unreadable{
			Path:   path,
			Reason: "it has the name of a zip, but is none inside",
			Next:   "make the zip again; its download or copy may have broken off",
		}
	case isPageName(path) || looksLikePage(head):
		f.Close()
		return page(path), nil
	}
	f.Close()
	return nil, &Unreadable{
		Path:   path,
		Reason: "it is neither a folder, nor a zip, nor an HTML page",
		Next:   "name the folder or zip that the engine wrote",
	}
}

// folder is an export in a folder on disk.
type folder string

func (folder) kind() string { return "folder" }
func (folder) Close() error { return nil }

func (root folder) list() ([]*File, error) {
	var files []*File
	err := filepath.WalkDir(string(root), func(name string, d fs.DirEntry, err error) error {
		if err != nil {
			return &Unreadable{Path: string(root), Reason: "a part of it can't be read", Cause: err}
		}
		if d.IsDir() {
			return nil
		}
		inside, err := filepath.Rel(string(root), name)
		if err != nil {
			return err
		}
		if !utf8.ValidString(inside) {
			return &Unreadable{Path: string(root), Reason: fmt.Sprintf("the name %q in it is not UTF-8", inside), Next: "give the file another name"}
		}
		info, err := root.follow(name, d)
		if err != nil {
			return &Unreadable{Path: string(root), Reason: "a part of it can't be read", Cause: err}
		}
		if info == nil {
			files = append(
				files,
				&File{Path: filepath.ToSlash(inside), Junk: "a link that leads out of the export, or to a folder; it is not followed", open: empty},
			)
			return nil
		}
		stamp, settled := stampOf(info)
		files = append(files, &File{
			Path: filepath.ToSlash(inside), Bytes: info.Size(), stamps: stamps{stamp, settled, info.ModTime()},
			open: func() (io.ReadCloser, error) { return os.Open(name) },
		})
		return nil
	})
	return files, err
}

// follow returns what stands behind a name of the folder: the file itself, or the one that a symbolic link leads to inside
// the folder; nil for everything else.
func (root folder) follow(name string, d fs.DirEntry) (fs.FileInfo, error) {
	if d.Type().IsRegular() {
		return d.Info()
	}
	whole, err := filepath.EvalSymlinks(string(root))
	if err != nil {
		return nil, err
	}
	target, err := filepath.EvalSymlinks(name)
	if err != nil {
		return nil, nil // it leads nowhere
	}
	inside, err := filepath.Rel(whole, target)
	if err != nil || inside == ".." || strings.HasPrefix(inside, ".."+string(filepath.Separator)) {
		return nil, nil
	}
	info, err := os.Stat(target)
	if err != nil || !info.Mode().IsRegular() {
		return nil, nil
	}
	return info, nil
}

func empty() (io.ReadCloser, error) { return io.NopCloser(strings.NewReader("")), nil }

// page is an export that is one HTML file.
type page string

func (page) kind() string { return "page" }
func (page) Close() error { return nil }

func (p page) list() ([]*File, error) {
	info, err := os.Stat(string(p))
	if err != nil {
		return nil, &Unreadable{Path: string(p), Reason: "it can't be read", Cause: err}
	}
	stamp, settled := stampOf(info)
	return []*File{{
		Path: filepath.Base(string(p)), Bytes: info.Size(), stamps: stamps{stamp, settled, info.ModTime()},
		open: func() (io.ReadCloser, error) { return os.Open(string(p)) },
	}}, nil
}

// ReadAll reads a whole file of a build, at most limit bytes of it.
func (f *File) ReadAll(ctx context.Context, limit int64) ([]byte, error) {
	if err := ctx.Err(); err != nil {
		return nil, err
	}
	r, err := f.Open()
	if err != nil {
		return nil, err
	}
	defer r.Close()
	return io.ReadAll(io.LimitReader(r, limit))
}
