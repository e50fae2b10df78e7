package app

import (
	"fmt"
	"maps"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"havvel/internal/atomicfile"
	"havvel/internal/export"
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
	if g.Title == "" && b.Entry != nil {
		g.Title = inwords.Clean(b.Entry.Page.Title)
	}
	if g.Title == "" {
		if here, err := os.Getwd(); err == nil {
			g.Title = filepath.Base(here)
		}
	}
	if g.Short == "" {
		g.Short = project.ShortFrom(g.Title)
	}
	listing := project.Listing{Tagline: with.Tagline, Category: with.Category}
	p := &project.Project{Game: g, Listing: listing, To: map[string]*project.Destination{}}
	for _, r := range with.Rulebooks {
		rules, err := rulebook.Find(r, ".")
		if err != nil {
			return nil, fmt.Errorf("--to: %w", err)
		}
		name := strings.TrimSuffix(path.Base(filepath.ToSlash(r)), ".toml")
		d := &project.Destination{Rulebook: r, Address: with.Address, Rules: rules}
		if rules.Key.Variable != "" {
			d.Key = "env:" + rules.Key.Variable
		}
		p.To[name] = d
	}
	for _, name := range slices.Sorted(maps.Keys(with.Values)) {
		if err := giveValue(p, name, with.Values[name]); err != nil {
			return nil, err
		}
	}
	return p, nil
}

// giveValue gives a value to all destinations whose rulebook asks for it.
func giveValue(p *project.Project, name, text string) error {
	var known []string
	given := false
	for _, d := range p.To {
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
	return fmt.Errorf("--value %s: no rulebook asks for that; there is: %s", name, strings.Join(slices.Compact(known), ", "))
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
	if _, err := project.Find("."); err != nil { // what was just written must be readable
		os.Remove(project.Name)
		return nil, err
	}
	return out, nil
}
