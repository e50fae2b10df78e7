package export

import (
	"cmp"
	"context"
	"io"
	"path"
	"slices"
)

// A Part is one file of a build that is put together: one of another build under a new name, or new bytes.
type Part struct {
	Path  string
	Same  *File // has the same bytes, of which nothing need be read again; or
	Bytes int64
	Open  func() (io.ReadCloser, error)
}

// Assemble makes a build of parts, as if it had been read from path, which is a folder, a zip or a page, as source says.
// What is known of a file of another build is not worked out again.
func Assemble(ctx context.Context, at, source string, parts []Part) (*Build, error) {
	b := &Build{Path: at, Source: source, source: assembled(source)}
	t := newTurns()
	for _, p := range parts {
		f := &File{Path: p.Path, Bytes: p.Bytes, open: p.Open}
		if p.Same != nil && path.Ext(p.Same.Path) == path.Ext(p.Path) {
			same := *p.Same
			f = &same
			f.Path, f.Junk = p.Path, junk(p.Path)
		} else if p.Same != nil {
			f.Bytes, f.open = p.Same.Bytes, p.Same.open
		}
		if f.Kind == "" {
			if err := f.read(ctx, t); err != nil {
				return nil, err
			}
		}
		b.Files = append(b.Files, f)
	}
	slices.SortFunc(b.Files, func(x, y *File) int { return cmp.Compare(x.Path, y.Path) })
	b.assemble()
	return b, nil
}

// assembled is the source of a build that was put together.
type assembled string

func (a assembled) kind() string         { return string(a) }
func (assembled) list() ([]*File, error) { return nil, nil }

// Close does nothing: the bytes belong to the builds that the parts come from.
func (assembled) Close() error { return nil }
