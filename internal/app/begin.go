package app

import (
	"cmp"
	"fmt"
	"maps"
	"net/url"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"havvel/internal/atomicfile"
	"havvel/internal/export"
	"havvel/internal/fault"
	"havvel/internal/inwords"
	"havvel/internal/project"
	"havvel/internal/rulebook"
)

// A Beginning is what a new project is to be.
type Beginning struct {
	Title, Short, Studio, Version string
	Tagline, Category             string
	Rulebooks                     []string
	Address                       string            // of the portals' interface; "" for the rulebook's
	Values                        map[string]string // that the rulebooks ask for
}

// Begun is a project file; as JSON it is the document of havvel start.
type Begun struct {
	File         string   `json:"file"`
	Text         string   `json:"text"`
	Title        string   `json:"title"`
	Short        string   `json:"short"`
	Version      string   `json:"version"`
	Export       string   `json:"export"`
	Destinations []string `json:"destinations"`
}

// Begin puts a project together for a build in a folder. What the developer did not say is taken from the build.
func Begin(b *export.Build, folder string, with Beginning) (*project.Project, error) {
	g := project.Game{Title: with.Title, Short: with.Short, Studio: with.Studio, Version: with.Version, Export: filepath.ToSlash(folder)}
	p := &project.Project{
		Game: g, Listing: project.Listing{Tagline: with.Tagline, Category: with.Category}, To: map[string]*project.Destination{},
	}
	GuessFrom(b).into(p)
	if p.Game.Title == "" {
		if here, err := os.Getwd(); err == nil {
			p.Game.Title = filepath.Base(here)
		}
	}
	p.Game.Short = cmp.Or(p.Game.Short, project.ShortFrom(p.Game.Title))
	to, err := destinations(with, ".")
	if err != nil {
		return nil, err
	}
	p.To = to
	return p, nil
}

// destinations are those that the developer named: by a rulebook, or by the address of a site.
func destinations(with Beginning, folder string) (map[string]*project.Destination, error) {
	list := map[string]*project.Destination{}
	for _, to := range with.Rulebooks {
		name, d := siteNamed(to), &project.Destination{Address: filepath.ToSlash(to)}
		if name == "" {
			var err error
			if d, err = portalOf(to, with.Address, folder); err != nil {
				return nil, err
			}
			name = strings.TrimSuffix(path.Base(filepath.ToSlash(to)), ".toml")
		}
		if list[name] != nil {
			return nil, fault.New(fault.Usage, "--to names two destinations that would both be called %s", name).
				Then("add one of them in %s, under a name of its own", project.Name)
		}
		list[name] = d
	}
	for _, name := range slices.Sorted(maps.Keys(with.Values)) {
		if err := giveValue(list, name, with.Values[name]); err != nil {
			return nil, err
		}
	}
	return list, nil
}

// siteNamed is a name for what --to says, where that is the address of a site or a folder; "" where it is a rulebook.
func siteNamed(to string) string {
	if u, err := url.Parse(to); err == nil && u.Host != "" && u.Scheme != "http" && u.Scheme != "https" {
		return siteName(u)
	}
	if project.IsFolder(to) && path.Ext(to) != ".toml" {
		return project.ShortFrom(filepath.Base(to))
	}
	return ""
}

// portalOf is the destination of a rulebook, at the address that the developer gave, or else that of the rulebook.
func portalOf(to, address, folder string) (*project.Destination, error) {
	rules, err := rulebook.Find(to, folder)
	switch {
	case err != nil && strings.Contains(to, "://"):
		return nil, fault.New(fault.Usage, "--to: %s is neither a rulebook nor the address of a site", to).
			Then("a site's address is one of: %s; a rulebook is %s, or a file ending in .toml",
				project.Sites(), strings.Join(rulebook.Names(), ", "))
	case err != nil:
		return nil, fmt.Errorf("--to: %w", err)
	case rules.Address == "" && address == "":
		return nil, fault.New(fault.Usage, "--to %s: the rulebook names no address, so --address must", to).
			Then("havvel host prints that of a playtest host")
	}
	d := &project.Destination{Rulebook: to, Address: address, Rules: rules}
	if rules.Key.Variable != "" {
		d.Key = "env:" + rules.Key.Variable
	}
	return d, nil
}

// siteName is a name for a site: the first part of its host's name that says something.
func siteName(u *url.URL) string {
	for part := range strings.SplitSeq(u.Hostname(), ".") {
		short := project.ShortFrom(part)
		if !slices.Contains([]string{"www", "ftp", "sftp", "web", "game"}, short) && !strings.ContainsAny(short[:1], "0123456789") {
			return short
		}
	}
	return "site"
}

// Add adds destinations to a project that is there already.
func Add(p *project.Project, with Beginning, dryRun bool) (*Begun, error) {
	more, err := destinations(with, p.Folder)
	if err != nil {
		return nil, err
	}
	text, err := p.AddDestinations(more, dryRun)
	if err != nil {
		return nil, err
	}
	g := p.Game
	return &Begun{
		filepath.Join(p.Folder, project.Name), string(text), g.Title, g.Short, g.Version, g.Export, slices.Sorted(maps.Keys(more)),
	}, nil
}

// giveValue gives a value to all destinations whose rulebook asks for it.
func giveValue(to map[string]*project.Destination, name, text string) error {
	var known []string
	given := false
	for _, d := range to {
		if d.Rules == nil {
			continue
		}
		for _, v := range d.Asked() {
			known = append(known, v.Name)
			if v.Name != name {
				continue
			}
			if len(v.OneOf) > 0 && !slices.Contains(v.OneOf, text) {
				return fmt.Errorf("--value %s=%s: %s is one of: %s", name, text, name, strings.Join(v.OneOf, ", "))
			}
			d.Give(name, text)
			given = true
		}
	}
	if given {
		return nil
	}
	if len(known) == 0 {
		return fmt.Errorf("--value %s: none of the rulebooks asks for a value", name)
	}
	slices.Sort(known)
	return fmt.Errorf("--value %s: no rulebook asks for that; %s", name, inwords.There(slices.Compact(known)))
}

// WriteDown is a project's file, written into this folder unless it is a dry run.
func WriteDown(p *project.Project, dryRun bool) (*Begun, error) {
	text, err := project.Blank(p)
	if err != nil {
		return nil, err
	}
	g := p.Game
	out := &Begun{project.Name, string(text), g.Title, g.Short, g.Version, g.Export, append([]string{}, slices.Sorted(maps.Keys(p.To))...)}
	if dryRun {
		return out, nil
	}
	if err := atomicfile.Bytes(project.Name, text); err != nil {
		return nil, err
	}
	if err := atomicfile.Bytes(project.SchemaFile, project.Schema()); err != nil {
		return nil, err
	}
	if _, err := project.Find("."); err != nil { // what was just written must be readable
		os.Remove(project.Name)
		return nil, err
	}
	return out, nil
}
