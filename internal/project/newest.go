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
// version control, tools and havvel itself write don't count. It is "" when there is none.
func (p *Project) Newest() (path string, changed time.Time) {
	looked := 0
	export := p.ExportPath()
	// A folder that can't be read is passed over: what it holds can't be told.
	_ = filepath.WalkDir(p.Folder, func(name string, d fs.DirEntry, err error) error {
		base := d.Name()
		switch {
		case err != nil && d.IsDir(),
			d.IsDir() && name != p.Folder && (strings.HasPrefix(base, ".") || base == "node_modules" || base == "packed" || base == "export" ||
				base == "build" || base == "dist" || name == export):
			return filepath.SkipDir
		case d.IsDir():
			return nil
		case name == export || base == Name || strings.HasPrefix(base, ".") || strings.HasSuffix(base, ".zip") || strings.HasSuffix(base, ".log"):
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
