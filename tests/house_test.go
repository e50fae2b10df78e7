package tests

import (
	"go/parser"
	"go/token"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
	"unicode/utf8"

	"havvel/internal/rulebook/expression"
)

// layers are the rooms of the house, from the ground up: a package may import those below its own, and in its own where that is said.
var layers = [][]string{
	{"fault", "disk"},
	{"atomicfile", "export/encoding", "disk/disktest", "inwords", "release", "deliver/site/idle", "deliver/site/pace", "deliver/site/trust"},
	{
		"settings",
		"browser",
		"progress",
		"webm",
		"mp4",
		"keys",
		"hosting",
		"export/link",
		"export/wasm",
		"export/media",
		"pack/deflate",
		"deliver/neterr",
		"demo/game",
		"demo/game/make",
		"playhost/files",
		"logbook",
		"filecache",
		"pieces",
		"round/sourcemap",
	},
	{"export/script", "rulebook/expression", "hosting/server", "pack/slim", "pictures/photo", "listing/prose"},
	{"rulebook/place"},
	{"export/web"},
	{"export", "rulebook", "round", "standin"},
	{"rulebook/draft", "deliver/site/root"},
	{"deliver/site"},
	{"deliver/site/folder", "deliver/site/ftp", "deliver/site/objects", "deliver/site/sftp", "deliver/site/webdav", "deliver/site/sitetest"},
	{"deliver/protocol"},
	{"project", "hooks", "finding", "round/page", "deliver/portal"},
	{"listing", "pictures", "serve"},
	{"check", "playhost"},
	{"pack", "trial"},
	{"compare", "deliver", "demo/testers", "proof"},
	{"demo"},
	{"cli/term", "app"},
	{"cli"},
}

// alone are packages that may import nothing of ours but what is named: what they get wrong is found by others, or finds others wrong.
var alone = map[string][]string{"standin": {"fault", "atomicfile", "disk"}, "round": {"fault"}, "logbook": {"disk"},
	"playhost/files": {"disk"}}

// TestHouse: data goes one way, and only the interface speaks to people.
func TestHouse(t *testing.T) {
	floor := map[string]int{}
	for i, rooms := range layers {
		for _, r := range rooms {
			floor[r] = i
		}
	}
	seen := map[string]bool{}
	err := filepath.WalkDir("../internal", func(file string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() || !strings.HasSuffix(file, ".go") || strings.HasSuffix(file, "_test.go") {
			return err
		}
		room := strings.TrimPrefix(filepath.ToSlash(filepath.Dir(file)), "../internal/")
		at, known := floor[room]
		if !known {
			t.Errorf("%s has no place in the house: say in layers which packages it stands on, and in docs/architecture.md what it is for", room)
			return nil
		}
		seen[room] = true
		source, err := os.ReadFile(file)
		if err != nil {
			return err
		}
		for n, line := range strings.Split(string(source), "\n") {
			if utf8.RuneCountInString(line) > 140 {
				t.Errorf("%s:%d has more than 140 columns", file, n+1)
			}
		}
		tree, err := parser.ParseFile(token.NewFileSet(), file, source, parser.ImportsOnly)
		if err != nil {
			return err
		}
		for _, i := range tree.Imports {
			name := strings.Trim(i.Path.Value, `"`)
			other, ours := strings.CutPrefix(name, "havvel/internal/")
			switch {
			case ours && floor[other] >= at:
				t.Errorf("%s imports %s, which does not stand below it", file, other)
			case ours && alone[room] != nil && !slices.Contains(alone[room], other):
				t.Errorf("%s imports %s, and should stand alone", file, other)
			case !ours && (name == "flag" || strings.HasPrefix(name, "github.com/spf13/")) && room != "cli":
				t.Errorf("%s reads flags, which is cli's work", file)
			}
		}
		if path.Dir(room) == "cli" || room == "cli" || room == "demo/game/make" {
			return nil
		}
		for _, never := range []string{"os.Exit(", "fmt.Print", "os.Stdout", "os.Stdin", "log.Fatal", "log.Print"} {
			if strings.Contains(string(source), never) {
				t.Errorf("%s has %s; only cli speaks to people", file, never)
			}
		}
		return nil
	})
	if err != nil {
		t.Fatal(err)
	}
	for room := range floor {
		if !seen[room] {
			t.Errorf("%s stands in layers, and is not there", room)
		}
	}
}

// TestDependencies: the page of dependencies names every module of go.mod, in its version.
func TestDependencies(t *testing.T) {
	mod, err := os.ReadFile("../go.mod")
	if err != nil {
		t.Fatal(err)
	}
	page, err := os.ReadFile("../docs/dependencies.md")
	if err != nil {
		t.Fatal(err)
	}
	required, _, _ := strings.Cut(string(mod), "\n)") // the first block: those that our own code names
	n := 0
	for line := range strings.SplitSeq(required, "\n") {
		if f := strings.Fields(line); len(f) == 2 && strings.HasPrefix(f[1], "v") {
			n++
			if !strings.Contains(string(page), "| "+f[0]+" | "+f[1]+" |") {
				t.Errorf("%s %s is not in docs/dependencies.md; make licences writes it anew", f[0], f[1])
			}
		}
	}
	if n < 20 {
		t.Errorf("go.mod has %d modules?", n)
	}
}

// TestPromises: every test that docs/reliability.md names is there.
func TestPromises(t *testing.T) {
	page, err := os.ReadFile(filepath.Join("..", "docs", "reliability.md"))
	if err != nil {
		t.Fatal(err)
	}
	there := map[string]bool{}
	for _, folder := range []string{".", filepath.Join("..", "internal")} {
		err := filepath.WalkDir(folder, func(name string, _ fs.DirEntry, err error) error {
			if err != nil || !strings.HasSuffix(name, "_test.go") {
				return err
			}
			code, err := os.ReadFile(name)
			for _, m := range regexp.MustCompile(`(?m)^func ((?:Test|Fuzz)\w+)\(`).FindAllSubmatch(code, -1) {
				there[string(m[1])] = true
			}
			return err
		})
		if err != nil {
			t.Fatal(err)
		}
	}
	for _, m := range regexp.MustCompile("`([A-Z]\\w*)`").FindAllSubmatch(page, -1) {
		if !there[string(m[1])] {
			t.Errorf("docs/reliability.md names %s, which is no test", m[1])
		}
	}
}

// TestFunctions: the page about rulebooks names each function of expressions.
func TestFunctions(t *testing.T) {
	page, err := os.ReadFile("../docs/formats/rulebook.md")
	if err != nil {
		t.Fatal(err)
	}
	for _, f := range expression.Functions() {
		if !regexp.MustCompile("`" + f.Name + "[`(]").Match(page) {
			t.Errorf("docs/formats/rulebook.md doesn't name %s: %s", f.Name, f.Says)
		}
	}
}
