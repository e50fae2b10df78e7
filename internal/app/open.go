// Package app holds the use cases: what a command decides, as values that can be shown as text or as JSON. It is given values and reports
// through progress; which flags there are, and how things are said, is left to cli.
package app

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"havvel/internal/export"
	"havvel/internal/inwords"
	"havvel/internal/project"
	"havvel/internal/proof"
	"havvel/internal/trial"
)

// reading reads an export: anew, or with what is known from before.
type Reading func(ctx context.Context, p *project.Project, path string) (*export.Build, error)

// Exact is the reading for what is packed and sent: what is known from before is taken only where the system notes each
// change of a file.
func Exact(ctx context.Context, p *project.Project, path string) (*export.Build, error) {
	if !export.Exact {
		return export.Read(ctx, path)
	}
	return Known(ctx, p, path)
}

// Known is the reading for a look: with what is known of the export from before, in the project's folder or in the
// user's cache.
func Known(ctx context.Context, p *project.Project, path string) (*export.Build, error) {
	if p != nil {
		return export.NewCache(p.CacheFolder()).Read(ctx, path)
	}
	if folder, err := os.UserCacheDir(); err == nil {
		return export.NewCache(filepath.Join(folder, "havvel")).Read(ctx, path)
	}
	return export.Read(ctx, path)
}

// Open opens the export that a command is about, with the project when there is one: a path on the
// command line, the project's export, or this folder. entry names another entry page than Havvel finds; it may be empty.
func Open(ctx context.Context, args []string, entry string, read Reading) (*project.Project, *export.Build, error) {
	p, err := project.Find(".")
	if err != nil && !errors.Is(err, project.ErrNone) {
		return nil, nil, err
	}
	path, err := placeOf(p, args)
	if err != nil {
		return nil, nil, err
	}
	named := len(args) > 0
	b, err := read(ctx, p, path)
	var unreadable *export.Unreadable
	if errors.As(err, &unreadable) && p != nil && !named && !Exists(path) {
		unreadable.Next = fmt.Sprintf("%s names it as game.export; export the game again, or correct the path there", project.Name)
	}
	if err != nil {
		return nil, nil, err
	}
	if err := enter(p, b, entry, !named); err != nil {
		b.Close()
		return nil, nil, err
	}
	if named {
		return p, b, nil
	}
	if p == nil && b.Entry == nil {
		b.Close()
		return nil, nil, &export.Unreadable{
			Path:   "this folder",
			Reason: "there is no page in it that runs a script, and no " + project.Name + " that names an export",
			Next:   "name the folder or zip that the engine wrote",
		}
	}
	if p != nil {
		b.See(sights(p, b))
	}
	return p, b, nil
}

// placeOf is where the export of a command is.
func placeOf(p *project.Project, args []string) (string, error) {
	switch {
	case len(args) > 0:
		return args[0], nil
	case p != nil:
		return inwords.Near(p.ExportPath()), nil
	case isWorkshop("."):
		return FindExport(nil)
	}
	return ".", nil
}

// sights are the requests that the last trials of this very export saw.
func sights(p *project.Project, b *export.Build) (list []export.Sight) {
	names := []string{""}
	if destinations, err := p.Destinations(nil); err == nil { // what is wrong with them, is said elsewhere
		for _, d := range destinations {
			names = append(names, d.Name)
		}
	}
	for _, name := range names {
		if last := trial.Last(p.Folder, name); last != nil && last.Fingerprint == b.Fingerprint {
			list = append(list, last.Sights()...)
		}
	}
	return append(list, proof.In(proofFolder(p)).Sights(b.Fingerprint)...)
}

// enter takes the entry page that is named, or the project for its own export.
func enter(p *project.Project, b *export.Build, entry string, own bool) error {
	if entry == "" && p != nil && own {
		entry = p.Game.Entry
	}
	if entry == "" {
		return nil
	}
	return b.Enter(entry)
}

// FindExport is the export that start is about: the one named, or the only one in this folder.
func FindExport(args []string) (string, error) {
	if len(args) > 0 {
		return args[0], nil
	}
	found, err := exportsIn(".")
	if err != nil {
		return "", err
	}
	switch {
	case len(found) == 0:
		return "", &export.Unreadable{
			Path:   "this folder",
			Reason: "there is no HTML page in it, nor in the folders below",
			Next:   "export the game for the web, then name the folder: havvel start FOLDER",
		}
	case len(found) > 1:
		return "", &export.Unreadable{
			Path:   "this folder",
			Reason: fmt.Sprintf("it holds %d exports: %s", len(found), inwords.List(found)),
			Next:   "name one of them after the command",
		}
	}
	return found[0], nil
}

// exportsIn lists the topmost folders that hold HTML pages, to a depth of three. Where a game is made with tools of the web, its own
// pages are what the export is made from; they count only where nothing else is below.
func exportsIn(root string) ([]string, error) {
	var found, sources []string
	err := filepath.WalkDir(root, func(name string, d fs.DirEntry, err error) error {
		if err != nil {
			if errors.Is(err, fs.ErrPermission) {
				return nil
			}
			return err
		}
		if !d.IsDir() {
			return nil
		}
		hidden := name != root && strings.HasPrefix(d.Name(), ".")
		if hidden || d.Name() == "node_modules" || strings.Count(filepath.ToSlash(name), "/") > 2 {
			return filepath.SkipDir
		}
		pages, err := filepath.Glob(filepath.Join(escapeGlob(name), "*.htm*"))
		switch {
		case err != nil || len(pages) == 0:
			return nil
		case isWorkshop(name):
			sources = append(sources, name)
			return nil
		}
		found = append(found, name)
		return filepath.SkipDir
	})
	if len(found) == 0 {
		found = sources
	}
	return found, err
}

// isWorkshop reports whether a folder is one in which tools of the web make a game: they leave a package.json there.
func isWorkshop(folder string) bool { return Exists(filepath.Join(folder, "package.json")) }

var globSigns = strings.NewReplacer(`*`, `\*`, `?`, `\?`, `[`, `\[`)

func escapeGlob(name string) string { return globSigns.Replace(name) }

// Exists reports whether there is a file of that name.
func Exists(path string) bool {
	_, err := os.Lstat(path)
	return !errors.Is(err, os.ErrNotExist)
}
