package project

import (
	"io/fs"
	"path/filepath"
	"strings"
	"time"
)

// mostSources is how many files of a project are looked at for the newest.
const mostSources = 50_000

// Newest finds the newest file of the project outside its export, with its path from the project's folder. Files that
// version control, tools and havvel itself write don't count, nor what havvel.toml names: it is for havvel, not for the game.
// It is "" when there is none.
func (p *Project) Newest() (path string, changed time.Time) {
	looked := 0
	// A folder that can't be read is passed over: what it holds can't be told.
	_ = filepath.WalkDir(p.Folder, func(name string, d fs.DirEntry, err error) error {
		switch {
		case d.IsDir() && (err != nil || name != p.Folder && p.passedOver(name)):
			return filepath.SkipDir
		case d.IsDir() || err != nil || p.noSource(name):
			return nil
		}
		if looked++; looked > mostSources {
			return fs.SkipAll
		}
		if info, err := d.Info(); err == nil && info.Mode().IsRegular() && info.ModTime().After(changed) {
			if inside, err := filepath.Rel(p.Folder, name); err == nil {
				path, changed = inside, info.ModTime()
			}
		}
		return nil
	})
	return path, changed
}

// names reports whether havvel.toml names a file or folder.
func (p *Project) names(path string) bool {
	if p.doc == nil {
		return false
	}
	inside, err := filepath.Rel(p.Folder, path)
	inside = filepath.ToSlash(inside)
	isPath := strings.Contains(inside, "/") || filepath.Ext(inside) != "" // and no word that happens to be the same
	return err == nil && (p.doc.Says("./"+inside) || isPath && p.doc.Says(inside))
}

// passedOver reports whether a folder holds nothing that the developer wrote.
func (p *Project) passedOver(folder string) bool {
	switch base := filepath.Base(folder); base {
	case "node_modules", "packed", "export", "build", "dist", "first-screens":
		return true
	default:
		return strings.HasPrefix(base, ".") || folder == p.ExportPath() || p.names(folder)
	}
}

// noSource reports whether a file is the export, or for havvel and other tools.
func (p *Project) noSource(file string) bool {
	return file == p.ExportPath() || byTools(filepath.Base(file)) || p.names(file)
}

// byTools reports whether a file of that name is one that tools write, or the project's settings.
func byTools(base string) bool {
	return base == Name || strings.HasPrefix(base, ".") || strings.HasSuffix(base, ".zip") || strings.HasSuffix(base, ".log")
}
