package tests

import (
	"archive/zip"
	"bytes"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"havvel/internal/demo"
	"havvel/internal/demo/game"
)

// zipOf packs files into a zip, in that order, each under a folder.
func zipOf(t testing.TB, folder string, files game.Files, names []string) string {
	t.Helper()
	var b bytes.Buffer
	z := zip.NewWriter(&b)
	for _, name := range names {
		w, err := z.Create(folder + name)
		if err != nil {
			t.Fatal(err)
		}
		w.Write(files[name])
	}
	if err := z.Close(); err != nil {
		t.Fatal(err)
	}
	path := filepath.Join(t.TempDir(), "game.zip")
	if err := os.WriteFile(path, b.Bytes(), 0o644); err != nil {
		t.Fatal(err)
	}
	return path
}

type look struct {
	Entry, Shape, Source, Fingerprint, Title string
	Bytes                                    int64
	Files                                    []struct{ Path, Kind string }
}

// TestFingerprint: the same game is the same, however it is wrapped.
func TestFingerprint(t *testing.T) {
	files := demo.Good()
	var names []string
	for name := range files {
		names = append(names, name)
	}
	slices.Sort(names)
	reversed := slices.Clone(names)
	slices.Reverse(reversed)
	withJunk := game.Files{".DS_Store": []byte("x"), "__MACOSX/._index.html": []byte("y")}
	for name, data := range files {
		withJunk[name] = data
	}
	here := t.TempDir()
	var first string
	for what, path := range map[string]string{
		"folder":        write(t, files),
		"zip":           zipOf(t, "", files, names),
		"zip, reversed": zipOf(t, "", files, reversed),
		"zip, nested":   zipOf(t, "web build/", files, names),
		"with junk":     write(t, withJunk),
	} {
		l := decode[look](t, run(t, here, "look", "--json", path).must(t, 0))
		if first == "" {
			first = l.Fingerprint
		}
		if l.Fingerprint != first || l.Shape != "wasm-split" || !strings.HasSuffix(l.Entry, "index.html") || l.Title != "Tinderwick Lane" {
			t.Errorf("%s: %+v, others have fingerprint %s", what, l, first)
		}
	}
	changed := decode[look](t, run(t, here, "look", "--json", write(t, demo.Second())).must(t, 0))
	if changed.Fingerprint == first {
		t.Error("a changed game has the same fingerprint")
	}
}

func TestShapes(t *testing.T) {
	single := write(t, game.SinglePage())
	for path, shape := range map[string]string{
		single: "single-page", filepath.Join(single, "index.html"): "single-page",
		write(t, demo.Good()): "wasm-split", write(t, game.Wasm()): "wasm", write(t, game.Script()): "script",
	} {
		if l := decode[look](t, run(t, t.TempDir(), "look", "--json", path).must(t, 0)); l.Shape != shape {
			t.Errorf("%s is %q, not %q", path, l.Shape, shape)
		}
		if e := run(t, t.TempDir(), "check", path, "--json").must(t, 0); strings.Contains(e.out, "link-") || strings.Contains(e.out, "warning") {
			t.Errorf("%s: the good export raises findings:\n%s", shape, e.out)
		}
	}
}

// TestPack packs builds that were exported badly, and has them opened by programs that are not ours.
func TestPack(t *testing.T) {
	unzip, python := partner(t, "unzip"), partner(t, "python3")
	nested := game.Files{}
	for name, data := range demo.Good() {
		name = strings.Replace(name, "index.html", "tinderwick.html", 1)
		nested["web build/"+name] = data
	}
	nested["web build/help.html"] = []byte(`<a href="tinderwick.html?from=help#top">play</a>`)
	nested[".DS_Store"] = []byte("x")
	_, project := portal(t, nil)
	for _, try := range []struct{ what, export string }{{"good", filepath.Join(project, "export", "web")}, {"nested", write(t, nested)}} {
		what, export := try.what, try.export
		before := snapshot(t, export)
		archives := decode[struct {
			Archives []struct {
				Path, SHA256 string
				Bytes        int64
				Entries      int
			}
		}](t, run(t, project, "pack", "--json", export).must(t, 0)).Archives
		if len(archives) != 1 {
			t.Fatalf("%s: %d archives", what, len(archives))
		}
		path := filepath.Join(project, archives[0].Path)
		first, err := os.ReadFile(path)
		if err != nil {
			t.Fatal(err)
		}
		run(t, project, "pack", export).must(t, 0)
		if second, err := os.ReadFile(path); err != nil || !bytes.Equal(first, second) {
			t.Errorf("%s: two packs differ (%v)", what, err)
		}
		for file, data := range snapshot(t, export) {
			if before[file] != data {
				t.Errorf("%s: pack changed %s in the export", what, file)
			}
		}
		if out, err := exec.Command(unzip, "-t", path).CombinedOutput(); err != nil {
			t.Errorf("%s: unzip -t: %s", what, out)
		}
		script := "import sys,zipfile; z=zipfile.ZipFile(sys.argv[1]); assert z.testzip() is None; print(*z.namelist(), sep='\\n'); " +
			"print(z.read('index.html').decode())"
		out, err := exec.Command(python, "-c", script, path).CombinedOutput()
		if err != nil {
			t.Fatalf("%s: zipfile: %s", what, out)
		}
		for _, has := range []string{"\nindex.html\n", "runtime.js\n", `<script src="/sdk/brackwater-1.js"></script>`} {
			if !strings.Contains("\n"+string(out), has) {
				t.Errorf("%s: the archive lacks %q:\n%s", what, has, out)
			}
		}
		if strings.Contains(string(out), "DS_Store") || strings.Contains(string(out), "web build") {
			t.Errorf("%s: the archive holds what it should not:\n%s", what, out)
		}
	}
	// The renamed entry page: links to it follow.
	help, err := exec.Command(unzip, "-p", filepath.Join(project, "packed", "brackwater-0.4.0.zip"), "help.html").CombinedOutput()
	if err != nil || !strings.Contains(string(help), "index.html?from=help#top") {
		t.Errorf("the link to the renamed entry page did not follow: %s", help)
	}
}

// TestPackFaults: a pack that fails leaves the earlier archive as it was.
func TestPackFaults(t *testing.T) {
	_, project := portal(t, nil)
	run(t, project, "pack").must(t, 0)
	archive := filepath.Join(project, "packed", "brackwater-0.4.0.zip")
	before, err := os.ReadFile(archive)
	if err != nil {
		t.Fatal(err)
	}
	rulebook, err := os.ReadFile(filepath.Join("..", "internal", "rulebook", "ship", "brackwater.toml"))
	if err != nil {
		t.Fatal(err)
	}
	small := bytes.Replace(rulebook, []byte(`"80 MB"`), []byte(`"200 KB"`), 1)
	toml, err := os.ReadFile(filepath.Join(project, "havvel.toml"))
	if err != nil {
		t.Fatal(err)
	}
	own := bytes.Replace(toml, []byte(`rulebook = "brackwater"`), []byte(`rulebook = "small.toml"`), 1)
	writeInto(t, project, game.Files{"small.toml": small, "havvel.toml": own})
	run(t, project, "pack").must(t, 1, "the archive has", "takes up to 200 KB")
	if after, err := os.ReadFile(archive); err != nil || !bytes.Equal(before, after) {
		t.Errorf("the earlier archive is not as it was (%v)", err)
	}
	if entries, err := os.ReadDir(filepath.Dir(archive)); err != nil || len(entries) != 1 {
		t.Errorf("something was left behind: %v (%v)", entries, err)
	}
}

// TestDiskFull packs onto a disk that is too small. It needs to be root, to make one.
func TestDiskFull(t *testing.T) {
	small := t.TempDir()
	if os.Geteuid() != 0 || exec.Command("mount", "-t", "tmpfs", "-o", "size=200k", "tmpfs", small).Run() != nil {
		t.Skip("skipped: a small disk can't be made here")
	}
	defer exec.Command("umount", small).Run()
	_, project := portal(t, nil)
	archive := filepath.Join(small, "brackwater-0.4.0.zip")
	if err := os.WriteFile(archive, []byte("earlier"), 0o644); err != nil {
		t.Fatal(err)
	}
	run(t, project, "pack", "--out", small).must(t, 3, "brackwater-0.4.0.zip", "no space left", "the disk is full")
	if data, err := os.ReadFile(archive); err != nil || string(data) != "earlier" {
		t.Errorf("the earlier archive is %q (%v)", data, err)
	}
	if entries, err := os.ReadDir(small); err != nil || len(entries) != 1 {
		t.Errorf("left behind: %v (%v)", entries, err)
	}
}
