// Package pack turns a build into the archive that a destination wants: first a plan that says what
// changes and why, then the bytes. It never writes into the export. What is wrong with a build is
// check's business.
package pack

import (
	"bytes"
	"context"
	"fmt"
	"path"
	"strings"

	"havvel/internal/check"
	"havvel/internal/export"
	"havvel/internal/export/web"
	"havvel/internal/hooks"
	"havvel/internal/rulebook"
)

// A Plan says what goes into an archive.
type Plan struct {
	Items []Item // in the order in which they are written
	Steps []Step // what differs from the export, in the order in which it was decided

	to    For
	build *export.Build
	entry *Item
}

// An Item is one file of an archive.
type Item struct {
	Name string       // in the archive
	From *export.File // where it comes from

	content []byte // its bytes where they differ from those of From
}

// A Step is one thing that the archive has other than the export.
type Step struct {
	Name string `json:"step"`
	What string `json:"what"`
}

// For says whom a plan is for.
type For struct {
	Destination string
	Rules       *rulebook.Rulebook
	Plants      bool // scripts that the rulebook wants may be planted
	Accepts     []check.Accept
}

// steps are applied in this order; each adds to the plan what it changes.
var steps = []func(context.Context, *Plan) error{leaveOut, lift, rename, plant}

// New makes the plan of an archive. It reads pages, but no other file.
func New(ctx context.Context, b *export.Build, to For) (*Plan, error) {
	if b.Entry == nil {
		return nil, fmt.Errorf("can't pack %s: there is no HTML page in it that a host could open", b.Path)
	}
	if to.Rules != nil && to.Rules.Archive.HandOver != "zip" {
		return nil, fmt.Errorf("can't pack for %s: it takes archives of the form %q, and this havvel writes zips only", to.Rules.Name, to.Rules.Archive.HandOver)
	}
	p := &Plan{to: to, build: b}
	for _, step := range steps {
		if err := step(ctx, p); err != nil {
			return nil, err
		}
	}
	return p, nil
}

func (p *Plan) note(name, format string, args ...any) {
	p.Steps = append(p.Steps, Step{name, fmt.Sprintf(format, args...)})
}

// leaveOut takes the files that belong to the build, and not the junk.
func leaveOut(_ context.Context, p *Plan) error {
	for _, f := range p.build.Files {
		if f.Junk != "" {
			p.note("leave out", "%s (%s)", f.Path, f.Junk)
			continue
		}
		p.Items = append(p.Items, Item{Name: f.Path, From: f})
	}
	for i := range p.Items {
		if p.Items[i].From == p.build.Entry {
			p.entry = &p.Items[i]
		}
	}
	return nil
}

// lift puts the contents of the folder around the build at the root.
func lift(_ context.Context, p *Plan) error {
	if folder := path.Dir(p.build.Inside(p.entry.From)); folder != "." {
		return fmt.Errorf("can't put the entry page %s at the root, since not all files are in its folder", p.entry.From.Path)
	}
	if p.build.Base == "" {
		return nil
	}
	for i := range p.Items {
		p.Items[i].Name = strings.TrimPrefix(p.Items[i].Name, p.build.Base)
	}
	p.note("entry", "the contents of %s go to the root", p.build.Base)
	return nil
}

// rename gives the entry page the name that hosts look for; links to it from other pages follow.
func rename(ctx context.Context, p *Plan) error {
	old := p.entry.From
	if p.entry.Name == export.EntryName {
		return nil
	}
	p.note("entry", "%s is called %s", old.Path, export.EntryName)
	p.entry.Name = export.EntryName
	for i := range p.Items {
		if err := p.Items[i].follow(ctx, old); err != nil {
			return err
		}
	}
	return nil
}

// follow changes the links of a page to the entry page, which was called old in the export.
func (it *Item) follow(ctx context.Context, old *export.File) error {
	page := it.From.Page
	if page == nil {
		return nil
	}
	for i := len(page.Links) - 1; i >= 0; i-- { // from the end, so that offsets stay true
		l := page.Links[i]
		target, where := web.Resolve(it.From.Path, page.Base, l.Target)
		if where != web.Inside || target != old.Path {
			continue
		}
		data, err := it.bytes(ctx)
		if err != nil {
			return err
		}
		written := data[l.Offset : l.Offset+l.Len]
		renamed := bytes.Replace(written, []byte(path.Base(old.Path)), []byte(export.EntryName), 1)
		it.content = splice(data, l.Offset, l.Len, renamed)
	}
	return nil
}

func splice(data []byte, at, length int, with []byte) []byte {
	out := make([]byte, 0, len(data)-length+len(with))
	out = append(out, data[:at]...)
	out = append(out, with...)
	return append(out, data[at+length:]...)
}

// plant puts the portal's scripts into the entry page, where they are wanted and absent.
func plant(ctx context.Context, p *Plan) error {
	if p.to.Rules == nil || !p.to.Plants || p.entry.From.Page == nil {
		return nil
	}
	for _, h := range p.to.Rules.Hooks {
		data, err := p.entry.bytes(ctx)
		if err != nil {
			return err
		}
		page := web.ReadPage(data)
		if !h.Plant || hooks.Present(page, h) {
			continue
		}
		p.entry.content = hooks.Plant(data, page, h)
		p.note("plant", "the %s (%s) in %s", h.Name, h.Script, p.entry.Name)
	}
	return nil
}

// bytes returns what the item will hold in the archive.
func (it *Item) bytes(ctx context.Context) ([]byte, error) {
	if it.content != nil {
		return it.content, nil
	}
	return it.From.ReadAll(ctx, it.From.Bytes+1)
}
