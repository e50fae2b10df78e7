package pack

import (
	"context"
	"fmt"
	"html"
	"path"
	"strings"

	"havvel/internal/export"
	"havvel/internal/fault"
)

// enter puts the build's files at the root, and the entry page under the name that hosts look for.
func enter(_ context.Context, p *Plan) error {
	if p.build.Base != "" {
		p.note("entry", 0, "hosts look for the entry page at the root", "the contents of %s go to the root", p.build.Base)
	}
	old := p.entry.Name
	if old == export.EntryName {
		return nil
	}
	if err := p.makeWay(); err != nil {
		return err
	}
	if folder := path.Dir(old); folder != "." {
		if err := p.rebase(folder); err != nil {
			return err
		}
	}
	p.entry.Name = export.EntryName
	p.note("entry", 0, "hosts look for a page of that name at the root", "%s is called %s", p.entry.From.Path, export.EntryName)
	return nil
}

// makeWay gives another name to a page that has the one that the entry page must have.
func (p *Plan) makeWay() error {
	other := p.named(export.EntryName)
	if other == nil {
		return nil
	}
	name := "index-other.html"
	if p.named(name) != nil {
		return fault.New(
			fault.No,
			"can't make %s the entry page: there is another %s; name it under leave_out in havvel.toml",
			p.entry.From.Path,
			export.EntryName,
		)
	}
	other.Name = name
	p.note("entry", 0, "the entry page takes its name", "%s is called %s", other.From.Path, name)
	return nil
}

// rebase tells a page that goes to the root where the files are that it names.
func (p *Plan) rebase(folder string) error {
	page := p.entry.From.Page
	if page == nil || page.Base != "" {
		return fault.New(
			fault.No,
			"can't put %s at the root: it has a base address of its own, so its links would lead elsewhere",
			p.entry.From.Path,
		)
	}
	p.entry.edits = append(
		p.entry.edits,
		edit{at: page.HeadStart, text: fmt.Sprintf(`<base href="%s/">`, html.EscapeString(strings.TrimSuffix(folder, "/")))},
	)
	p.note("entry", 0, "its links stay as they are", "%s says that its links are relative to %s/", p.entry.From.Path, folder)
	return nil
}
