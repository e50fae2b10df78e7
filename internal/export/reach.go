package export

import (
	"path"
	"slices"
	"strings"

	"havvel/internal/export/link"
)

// A Runner is what runs a script, and what the script's names are relative to: a page, or the script of a worker.
type Runner struct{ File *File }

// base is the folder that names are relative to there, and the page's own base.
func (r Runner) base() (from, base string) {
	if r.File.Page != nil {
		return r.File.Path, r.File.Page.Base
	}
	return r.File.Path, ""
}

// maxRunners is how many pages and workers are told apart that run one script.
const maxRunners = 12

// Reach says how sure it is that a file is used when players open the entry page.
type Reach int

// The ways to reach a file, the surest last.
const (
	Unreached Reach = iota // nothing that is used is known to load it
	Perhaps                // something that is used may load it
	Loaded                 // something that is used loads it at some time
	AtStart                // the entry page, or what it names and imports
)

// A visit is a file that is followed, for one of its runners.
type visit struct {
	file   *File
	runner Runner
}

// follow finds out what runs each script, by following what pages, scripts and workers load.
func (b *Build) follow() {
	b.runners = map[*File][]Runner{}
	var next []visit
	add := func(f *File, r Runner) {
		list := b.runners[f]
		if !slices.Contains(list, r) && len(list) < maxRunners {
			b.runners[f] = append(list, r)
			next = append(next, visit{f, r})
		}
	}
	for _, f := range b.pages() {
		add(f, Runner{f})
	}
	for i := 0; i < len(next); i++ {
		v := next[i]
		for _, l := range v.file.links {
			if l.Mapped || !runs(l) {
				continue
			}
			to := b.leadFor(v.file, l, v.runner).To
			if to == nil || to.Script == nil {
				continue
			}
			switch {
			case l.Worker:
				add(to, Runner{to})
			case l.Certainty != link.Possible:
				add(to, v.runner)
			}
		}
		for _, to := range b.imported(v.file, v.runner) {
			add(to, v.runner)
		}
	}
}

// runs reports whether a link may have a script run.
func runs(l link.Link) bool {
	return l.Use == "script" || l.Use == "preload" || l.Certainty == link.Possible && path.Ext(l.Target) == ".js"
}

// pages lists the build's pages, the entry page first.
func (b *Build) pages() []*File {
	var list []*File
	if b.Entry != nil {
		list = append(list, b.Entry)
	}
	for _, f := range b.Parts() {
		if f.Page != nil && f != b.Entry {
			list = append(list, f)
		}
	}
	return list
}

// imported lists the files that a script imports by names, as the page's import map explains them.
func (b *Build) imported(f *File, r Runner) []*File {
	var list []*File
	for _, l := range f.bare() {
		if to, ok := b.Mapped(f, l.Target, r); ok && to != nil {
			list = append(list, to)
		}
	}
	return list
}

func (f *File) bare() []link.Link {
	switch {
	case f.Script != nil:
		return f.Script.Bare
	case f.Page != nil:
		return f.Page.Inline.Bare
	}
	return nil
}

// Mapped is the file that a name stands for in a script that r runs. ok is false where no import map of the page explains the name;
// the file is nil where the address leads out of the build.
func (b *Build) Mapped(f *File, name string, r Runner) (to *File, ok bool) {
	if r.File.Page == nil {
		return nil, false // workers have no import maps
	}
	page := r.File
	at := func(address string) string {
		return b.leadFrom(page, link.Link{Target: address, Use: "script"}, page.Path, page.Page.Base).Path
	}
	address, ok := page.Page.Maps.Resolve(name, func(scope string) bool {
		folder := at(scope)
		return folder == f.Path || strings.HasSuffix(scope, "/") && (folder == "." || strings.HasPrefix(f.Path, folder+"/"))
	})
	if !ok {
		return nil, false
	}
	return b.leadFrom(page, link.Link{Target: address, Use: "script"}, page.Path, page.Page.Base).To, true
}

// Runners lists what runs a script; for a script that nothing is known to run, the entry page would.
func (b *Build) Runners(f *File) []Runner {
	if list := b.runners[f]; len(list) > 0 {
		return list
	}
	if b.Entry != nil {
		return []Runner{{b.Entry}}
	}
	return []Runner{{f}}
}

// grade works out how surely each file is used.
func (b *Build) grade() {
	b.reach = map[*File]Reach{}
	if b.Entry == nil {
		return
	}
	b.reach[b.Entry] = AtStart
	for next := []*File{b.Entry}; len(next) > 0; next = next[1:] {
		f := next[0]
		for _, l := range b.from[f] {
			if l.To == nil || l.Mapped {
				continue
			}
			at := min(b.reach[f], reachOf(l))
			if at > b.reach[l.To] {
				b.reach[l.To] = at
				next = append(next, l.To)
			}
		}
		for _, r := range b.Runners(f) {
			for _, to := range b.imported(f, r) {
				if b.reach[f] > b.reach[to] {
					b.reach[to] = b.reach[f]
					next = append(next, to)
				}
			}
		}
	}
}

func reachOf(l Link) Reach {
	switch {
	case l.Use == "page":
		return Perhaps
	case l.Certainty.Sure() && !l.Worker && l.Use != "preload":
		return AtStart
	case l.Certainty == link.Likely:
		return Loaded
	}
	return Perhaps
}

// Reach says how surely a file is used.
func (b *Build) Reach(f *File) Reach { return b.reach[f] }

// Unparsed lists the scripts, and pages with such, that were read by their tokens alone: names that they put together are not known.
func (b *Build) Unparsed() []*File {
	var list []*File
	for _, f := range b.Parts() {
		if f.WhyUnparsed() != "" {
			list = append(list, f)
		}
	}
	return list
}

// WhyUnparsed says why a script could not be parsed; "" for one that was, and for other files.
func (f *File) WhyUnparsed() string {
	switch {
	case f.Script != nil:
		return f.Script.Unparsed
	case f.Page != nil:
		return f.Page.Inline.Unparsed
	}
	return ""
}
