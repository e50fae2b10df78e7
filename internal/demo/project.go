// Package demo holds the demo world: the project of Tinderwick Lane, its good and flawed exports, and
// the stand-in portals with their names. It is also the full example, from an export to a public link.
package demo

import (
	"bytes"
	"crypto/sha256"
	"embed"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/andybalholm/brotli"

	"havvel/internal/atomicfile"
	"havvel/internal/demo/game"
	"havvel/internal/fault"
	"havvel/internal/project"
)

// The folders of the demo project.
const (
	GoodExport   = "export/web"
	FlawedExport = "export/flawed"
	PortalFolder = "portal" // where the stand-in keeps its data
)

// marker names the file that says what the demo wrote: paths and hashes.
const marker = ".havvel-demo.json"

// Good is the export that every portal takes.
func Good() game.Files { return game.WasmSplit() }

// Second is the export of the second version: the same game under a fuller moon.
func Second() game.Files {
	return Good().Changed("runtime.js", "vec3(.93, .92, .84)", "vec3(.99, .90, .74)")
}

// flawed is an export with three classic mistakes: a file compressed in a way that the portal can't
// serve, a name in another letter case, a script that was left out. A file manager was there too.
func flawed() game.Files {
	files := Good().
		Changed("style.css", "backdrop.png", "Backdrop.png").
		Changed("index.html", `<script src="loader.js">`, "<script src=\"settings.js\"></script>\n<script src=\"loader.js\">").
		Changed("loader.js", "lane.pack", "lane.pack.br")
	var packed bytes.Buffer
	w := brotli.NewWriterLevel(&packed, 5)
	w.Write(files["lane.pack"]) // a buffer takes everything
	w.Close()
	delete(files, "lane.pack")
	files["lane.pack.br"] = packed.Bytes()
	files[".DS_Store"] = []byte("\x00\x00\x00\x01Bud1")
	return files
}

// NotDemo says that a folder holds something that the demo did not write.
type NotDemo struct{ Folder, What string }

func (e *NotDemo) Error() string {
	return fmt.Sprintf("%s holds %s, which the demo did not write", e.Folder, e.What)
}

// Fault tells it.
func (e *NotDemo) Fault() *fault.Error {
	return fault.Tell(e, fault.Usage, "choose another folder with --dir")
}

// Write writes the demo project, with its export in all shapes, into a folder, for portals at the addresses given by their
// rulebooks' names. What an earlier demo wrote there is replaced; the error is *NotDemo when that would lose something else.
func Write(folder string, addresses map[string]string) error {
	if err := clear(folder); err != nil {
		return err
	}
	files, err := settings("0.4.0", addresses)
	if err != nil {
		return err
	}
	for name, data := range Good() {
		files[GoodExport+"/"+name] = data
	}
	for folder, export := range map[string]game.Files{FlawedExport: flawed(), "export/single-page": game.SinglePage(),
		"export/wasm": game.Wasm(), "export/script": game.Script()} {
		for name, data := range export {
			files[folder+"/"+name] = data
		}
	}
	entries, err := page.ReadDir("page")
	if err != nil {
		return err
	}
	for _, e := range entries {
		if e.Name() == listingFile {
			continue
		}
		if files["page/"+e.Name()], err = page.ReadFile("page/" + e.Name()); err != nil {
			return err
		}
	}
	return write(folder, files)
}

// page holds the texts and masters of the game's page.
//
//go:embed page
var page embed.FS

// listingFile is the part of the project file that is about the page; the others are files of the project.
const listingFile = "listing.toml"

// settings is the project file for a version.
func settings(version string, addresses map[string]string) (game.Files, error) {
	to := map[string]*project.Destination{}
	for name, address := range addresses {
		to[name] = &project.Destination{Rulebook: name, Address: address, Key: "env:" + strings.ToUpper(name) + "_KEY"}
	}
	toml, err := project.Text(&project.Project{
		Game: project.Game{Title: "Tinderwick Lane", Short: "tinderwick-lane", Studio: "Moor & Thimble", Version: version, Export: GoodExport},
		To:   to,
		Statistics: []project.Statistic{
			{
				Name:  "lanterns",
				Keeps: "highest",
				Label: "Lanterns lit",
				Unit:  "lanterns",
			}, {Name: "nights", Keeps: "highest", Label: "Nights solved", Unit: "nights"},
		},
	})
	if err != nil {
		return nil, err
	}
	listing, err := page.ReadFile("page/" + listingFile)
	if err != nil {
		return nil, err
	}
	toml = append(toml, bytes.ReplaceAll(listing, []byte("{version}"), []byte(version))...)
	return game.Files{project.Name: toml}, nil
}

// Readdress writes the project that Write wrote for portals at other addresses.
func Readdress(folder string, addresses map[string]string) error {
	files, err := settings("0.4.0", addresses)
	if err != nil {
		return err
	}
	return write(folder, files)
}

// WriteSecond exports the game again, changed, and raises the version in the project file.
func WriteSecond(folder string) error {
	p, err := project.Find(folder)
	if err != nil {
		return err
	}
	addresses := map[string]string{}
	for name, d := range p.To {
		addresses[name] = d.Address
	}
	files, err := settings("0.4.1", addresses)
	if err != nil {
		return err
	}
	for name, data := range Second() {
		files[GoodExport+"/"+name] = data
	}
	return write(folder, files)
}

// write writes files and notes what it wrote.
func write(folder string, files game.Files) error {
	noted, err := readMarker(folder)
	if err != nil {
		return err
	}
	for _, name := range slices.Sorted(maps.Keys(files)) {
		noted[name] = sum(files[name])
	}
	data, err := json.MarshalIndent(noted, "", "  ")
	if err != nil {
		return err
	}
	if err := atomicfile.Bytes(filepath.Join(folder, marker), append(data, '\n')); err != nil {
		return err
	}
	for name, content := range files {
		if err := atomicfile.Bytes(filepath.Join(folder, filepath.FromSlash(name)), content); err != nil {
			return err
		}
	}
	return nil
}

func sum(data []byte) string {
	s := sha256.Sum256(data)
	return hex.EncodeToString(s[:])
}

func readMarker(folder string) (map[string]string, error) {
	noted := map[string]string{}
	data, err := os.ReadFile(filepath.Join(folder, marker))
	if errors.Is(err, os.ErrNotExist) {
		return noted, nil
	}
	if err != nil {
		return nil, err
	}
	return noted, json.Unmarshal(data, &noted)
}

// own are the folders that the commands of the demo write into.
var own = []string{".havvel", "packed", PortalFolder}

// clear takes away what an earlier demo wrote, and nothing else.
func clear(folder string) error {
	entries, err := os.ReadDir(folder)
	if errors.Is(err, os.ErrNotExist) || err == nil && len(entries) == 0 {
		return nil
	}
	if err != nil {
		return err
	}
	noted, err := readMarker(folder)
	if err != nil {
		return err
	}
	if len(noted) == 0 {
		return &NotDemo{folder, entries[0].Name()}
	}
	files, err := unchanged(folder, noted)
	if err != nil {
		return err
	}
	for _, name := range own {
		if err := os.RemoveAll(filepath.Join(folder, name)); err != nil {
			return err
		}
	}
	for _, f := range append(files, filepath.Join(folder, marker)) {
		if err := os.Remove(f); err != nil {
			return err
		}
	}
	return nil
}

// unchanged lists the files of a demo. The error is a *NotDemo where one is new or changed.
func unchanged(folder string, noted map[string]string) (files []string, err error) {
	err = filepath.WalkDir(folder, func(path string, d os.DirEntry, err error) error {
		if err != nil {
			return err
		}
		name, err := filepath.Rel(folder, path)
		if err != nil {
			return err
		}
		name = filepath.ToSlash(name)
		switch {
		case d.IsDir() && slices.Contains(own, name):
			return filepath.SkipDir
		case d.IsDir(), name == marker:
			return nil
		}
		data, err := os.ReadFile(path)
		if err != nil {
			return err
		}
		if noted[name] != sum(data) {
			return &NotDemo{folder, name + " (new or changed)"}
		}
		files = append(files, path)
		return nil
	})
	return files, err
}
