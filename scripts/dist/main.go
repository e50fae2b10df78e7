// Dist makes the archives of a release in dist/: one for each system, with the program, manual pages, completions and licences; their
// checksums; and what the program is made of, as CycloneDX 1.6. Two runs on the same commit give the same bytes: times are those of the
// commit, names are in order, and no folder of this machine is in the programs.
//
//	go run ./scripts/dist VERSION DATE
package main

import (
	"archive/tar"
	"archive/zip"
	"bytes"
	"compress/gzip"
	"crypto/sha256"
	"debug/buildinfo"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"log"
	"maps"
	"os"
	"os/exec"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra/doc"

	"havvel/internal/cli"
)

func main() {
	log.SetFlags(0)
	if len(os.Args) != 3 {
		log.Fatal("go run ./scripts/dist VERSION DATE, as 0.4.0 2026-11-29")
	}
	version, day := os.Args[1], os.Args[2]
	date, err := time.Parse(time.DateOnly, day)
	if err != nil {
		log.Fatal(err)
	}
	if err := release(version, date); err != nil {
		log.Fatal(err)
	}
}

func release(version string, date time.Time) error {
	shared, err := common(version, date)
	if err != nil {
		return err
	}
	sums := map[string][]byte{}
	for _, system := range []string{"linux", "darwin", "windows"} {
		for _, arch := range []string{"amd64", "arm64"} {
			program, err := build(system, arch, version, date)
			if err != nil {
				return err
			}
			files := maps.Clone(shared)
			name := fmt.Sprintf("havvel-%s-%s-%s", version, system, arch)
			archive, ending := tarred, ".tar.gz"
			if system == "windows" {
				files["havvel.exe"] = program
				archive, ending = zipped, ".zip"
			} else {
				files["havvel"] = program
			}
			data, err := archive(name, files, date)
			if err != nil {
				return err
			}
			sums[name+ending] = data
			if system == "linux" && arch == "amd64" {
				if sums["havvel-"+version+".cdx.json"], err = bill(program, version, date); err != nil {
					return err
				}
			}
		}
	}
	var list bytes.Buffer
	for _, name := range slices.Sorted(maps.Keys(sums)) {
		if err := os.WriteFile(filepath.Join("dist", name), sums[name], 0o644); err != nil {
			return err
		}
		sum := sha256.Sum256(sums[name])
		fmt.Fprintf(&list, "%s  %s\n", hex.EncodeToString(sum[:]), name)
	}
	fmt.Print(list.String())
	return os.WriteFile(filepath.Join("dist", "SHA256SUMS"), list.Bytes(), 0o644)
}

// common are the files that go into every archive.
func common(version string, date time.Time) (map[string][]byte, error) {
	files := map[string][]byte{}
	for from, to := range map[string]string{"LICENSE": "LICENSE", "README.md": "README.md", "CHANGELOG.md": "CHANGELOG.md",
		"dist/licences.txt": "licences.txt"} {
		data, err := os.ReadFile(from)
		if err != nil {
			return nil, err
		}
		files[to] = data
	}
	temporary, err := os.MkdirTemp("", "havvel-man-")
	if err != nil {
		return nil, err
	}
	defer os.RemoveAll(temporary)
	root := cli.Root(strings.NewReader(""), io.Discard, io.Discard)
	root.DisableAutoGenTag = true
	if err := doc.GenManTree(root, &doc.GenManHeader{Title: "HAVVEL", Section: "1", Date: &date, Source: "havvel " + version,
		Manual: "Havvel"}, temporary); err != nil {
		return nil, fmt.Errorf("writing manual pages: %w", err)
	}
	err = fs.WalkDir(os.DirFS(temporary), ".", func(name string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		data, err := os.ReadFile(filepath.Join(temporary, name))
		files["man/"+name] = data
		return err
	})
	if err != nil {
		return nil, err
	}
	for _, shell := range []string{"bash", "fish", "powershell", "zsh"} {
		var script bytes.Buffer
		if code := cli.Main([]string{"completion", shell}, strings.NewReader(""), &script, os.Stderr); code != 0 {
			return nil, fmt.Errorf("completion for %s ended with %d", shell, code)
		}
		files["completions/havvel."+shell] = script.Bytes()
	}
	return files, nil
}

func build(system, arch, version string, date time.Time) ([]byte, error) {
	out := filepath.Join("dist", "havvel-building")
	defer os.Remove(out)
	flags := fmt.Sprintf(
		"-s -w -buildid= -X havvel/internal/release.version=%s -X havvel/internal/release.day=%s",
		version,
		date.Format(time.DateOnly),
	)
	c := exec.Command("go", "build", "-trimpath", "-buildvcs=false", "-ldflags", flags, "-o", out, ".")
	c.Env = append(os.Environ(), "CGO_ENABLED=0", "GOOS="+system, "GOARCH="+arch)
	if said, err := c.CombinedOutput(); err != nil {
		return nil, fmt.Errorf("building for %s on %s: %w\n%s", system, arch, err, said)
	}
	return os.ReadFile(out)
}

// mode is that of a file in an archive.
func mode(name string) int64 {
	if name == "havvel" || name == "havvel.exe" {
		return 0o755
	}
	return 0o644
}

func tarred(folder string, files map[string][]byte, date time.Time) ([]byte, error) {
	var b bytes.Buffer
	packed := gzip.NewWriter(&b)
	w := tar.NewWriter(packed)
	for _, name := range slices.Sorted(maps.Keys(files)) {
		h := &tar.Header{Name: path.Join(folder, name), Mode: mode(name), Size: int64(len(files[name])), ModTime: date, Format: tar.FormatPAX}
		if err := w.WriteHeader(h); err != nil {
			return nil, err
		}
		if _, err := w.Write(files[name]); err != nil {
			return nil, err
		}
	}
	if err := errors.Join(w.Close(), packed.Close()); err != nil {
		return nil, err
	}
	return b.Bytes(), nil
}

func zipped(folder string, files map[string][]byte, date time.Time) ([]byte, error) {
	var b bytes.Buffer
	w := zip.NewWriter(&b)
	for _, name := range slices.Sorted(maps.Keys(files)) {
		h := &zip.FileHeader{Name: path.Join(folder, name), Method: zip.Deflate, Modified: date}
		h.SetMode(fs.FileMode(mode(name)))
		to, err := w.CreateHeader(h)
		if err != nil {
			return nil, err
		}
		if _, err := to.Write(files[name]); err != nil {
			return nil, err
		}
	}
	if err := w.Close(); err != nil {
		return nil, err
	}
	return b.Bytes(), nil
}

// bill lists the modules that are in a program, as CycloneDX 1.6 writes it.
func bill(program []byte, version string, date time.Time) ([]byte, error) {
	info, err := buildinfo.Read(bytes.NewReader(program))
	if err != nil {
		return nil, fmt.Errorf("reading what the program is built from: %w", err)
	}
	type component struct {
		Type    string `json:"type"`
		Name    string `json:"name"`
		Version string `json:"version"`
		PURL    string `json:"purl,omitempty"`
	}
	parts := []component{{"platform", "go", strings.TrimPrefix(info.GoVersion, "go"), ""}}
	for _, m := range info.Deps {
		parts = append(parts, component{"library", m.Path, m.Version, "pkg:golang/" + m.Path + "@" + m.Version})
	}
	return json.MarshalIndent(map[string]any{
		"bomFormat": "CycloneDX", "specVersion": "1.6", "version": 1,
		"metadata":   map[string]any{"timestamp": date.Format(time.RFC3339), "component": component{"application", "havvel", version, ""}},
		"components": parts,
	}, "", "  ")
}
