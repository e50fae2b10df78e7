package pack

import (
	"context"
	"io"
	"os"
	"path/filepath"

	"havvel/internal/export"
)

// Read reads what Write wrote: a zip, a page, a folder, or an entry page and a zip of the rest. path is without the ending, as
// it was given to Write. The build tells what it holds; its files can't all be opened. The error is os.ErrNotExist when there is nothing.
func Read(ctx context.Context, stem string) (*export.Build, error) {
	for _, ending := range []string{".zip", ".html"} {
		if _, err := os.Stat(stem + ending); err == nil {
			return export.Read(ctx, stem+ending)
		}
	}
	if _, err := os.Stat(stem); err != nil {
		return nil, os.ErrNotExist
	}
	rest := filepath.Join(stem, "rest.zip")
	if _, err := os.Stat(rest); err != nil {
		return export.Read(ctx, stem)
	}
	b, err := export.Read(ctx, rest)
	if err != nil {
		return nil, err
	}
	page := filepath.Join(stem, export.EntryName)
	info, err := os.Stat(page)
	if err != nil {
		b.Close()
		return nil, err
	}
	parts := []export.Part{{Path: export.EntryName, Bytes: info.Size(), Open: func() (io.ReadCloser, error) { return os.Open(page) }}}
	for _, f := range b.Files {
		parts = append(parts, export.Part{Path: f.Path, Same: f})
	}
	defer b.Close() // what is read later is not asked of it
	return export.Assemble(ctx, stem, "zip", parts)
}
