package pack

import (
	"archive/zip"
	"context"
	"errors"
	"io"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"havvel/internal/check"
	"havvel/internal/export"
	"havvel/internal/progress"
	"havvel/internal/rulebook"
)

var arcade = &rulebook.Rulebook{
	Name:    "Arcade",
	Archive: rulebook.Archive{HandOver: "zip"},
	Hooks:   []rulebook.Hook{{Name: "SDK", Script: "/sdk.js", Place: "head-start", Required: true, Plant: true}},
}

const page = "<!doctype html><html><head></head><body><script src=game.js></script></body></html>"

func build(t *testing.T, files map[string]string) (*export.Build, string) {
	t.Helper()
	folder := t.TempDir()
	for name, data := range files {
		path := filepath.Join(folder, filepath.FromSlash(name))
		if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(path, []byte(data), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	b, err := export.Read(context.Background(), folder)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { b.Close() })
	return b, folder
}

// unpack reads an archive as any program would.
func unpack(t *testing.T, path string) map[string]string {
	t.Helper()
	z, err := zip.OpenReader(path)
	if err != nil {
		t.Fatal(err)
	}
	defer z.Close()
	files := map[string]string{}
	for _, f := range z.File {
		r, err := f.Open()
		if err != nil {
			t.Fatal(err)
		}
		data, err := io.ReadAll(r)
		if err != nil {
			t.Fatalf("%s: %v", f.Name, err)
		}
		files[f.Name] = string(data)
		if f.Mode() != 0o644 || f.Modified.Year() != 1980 {
			t.Errorf("%s has mode %v and time %v", f.Name, f.Mode(), f.Modified)
		}
	}
	return files
}

func TestSteps(t *testing.T) {
	for name, c := range map[string]struct {
		files  map[string]string
		steps  string // names of the steps, in order
		want   []string
		inside map[string]string // texts that must stand in files
	}{
		"nothing but the script": {map[string]string{"index.html": page, "game.js": "1"}, "plant", []string{"game.js", "index.html"}, map[string]string{"index.html": `<head>` + "\n" + `<!-- havvel: SDK --><script src="/sdk.js"></script>`}},
		"the script is there":    {map[string]string{"index.html": strings.Replace(page, "<head>", `<head><script src="/sdk.js"></script>`, 1), "game.js": "1"}, "", []string{"game.js", "index.html"}, nil},
		"a folder around it":     {map[string]string{"web/index.html": page, "web/game.js": "1", "web/a/b.bin": "2"}, "entry plant", []string{"a/b.bin", "game.js", "index.html"}, map[string]string{"a/b.bin": "2"}},
		"another name":           {map[string]string{"lane.html": page, "game.js": "1", "help.html": "<a href='lane.html#x'>a</a><a href=./lane.html>b</a><a href=other/lane.html>c</a>"}, "entry plant", []string{"game.js", "help.html", "index.html"}, map[string]string{"help.html": "<a href='index.html#x'>a</a><a href=./index.html>b</a><a href=other/lane.html>c</a>"}},
		"letter case":            {map[string]string{"Index.html": page, "game.js": "1"}, "entry plant", []string{"game.js", "index.html"}, nil},
		"junk":                   {map[string]string{"index.html": page, "game.js": "1", ".DS_Store": "x", ".git/config": "x", "a.js~": "x"}, "leave out leave out leave out plant", []string{"game.js", "index.html"}, nil},
		"a page of its own":      {map[string]string{"index.html": page, "game.js": "1", "lane.html": "<p>"}, "plant", []string{"game.js", "index.html", "lane.html"}, nil},
	} {
		t.Run(name, func(t *testing.T) {
			b, folder := build(t, c.files)
			plan, err := New(context.Background(), b, For{Destination: "arcade", Rules: arcade, Plants: true})
			if err != nil {
				t.Fatal(err)
			}
			var steps []string
			for _, s := range plan.Steps {
				steps = append(steps, s.Name)
			}
			if got := strings.Join(steps, " "); got != c.steps {
				t.Errorf("steps %q, want %q", got, c.steps)
			}
			path := filepath.Join(t.TempDir(), "a.zip")
			a, err := plan.Write(context.Background(), path, progress.None)
			if err != nil {
				t.Fatal(err)
			}
			files := unpack(t, path)
			if got := slices.Sorted(maps.Keys(files)); !slices.Equal(got, c.want) || a.Entries != len(c.want) {
				t.Errorf("holds %q, want %q", got, c.want)
			}
			for name, text := range c.inside {
				if !strings.Contains(files[name], text) {
					t.Errorf("%s lacks %q:\n%s", name, text, files[name])
				}
			}
			for name, data := range c.files {
				if now, err := os.ReadFile(filepath.Join(folder, name)); err != nil || string(now) != data {
					t.Errorf("the export's %s was changed (%v)", name, err)
				}
			}
		})
	}
}

// TestPackAgain: an archive packed once more is the same, and nothing is planted twice.
func TestPackAgain(t *testing.T) {
	b, _ := build(t, map[string]string{"index.html": page, "game.js": "1"})
	to := For{Destination: "arcade", Rules: arcade, Plants: true}
	folder := t.TempDir()
	first := pack(t, b, to, filepath.Join(folder, "1.zip"))
	again, err := export.Read(context.Background(), first.Path)
	if err != nil {
		t.Fatal(err)
	}
	defer again.Close()
	if second := pack(t, again, to, filepath.Join(folder, "2.zip")); second.SHA256 != first.SHA256 {
		t.Error("the archive of the archive differs")
	}
}

func pack(t *testing.T, b *export.Build, to For, path string) *Archive {
	t.Helper()
	plan, err := New(context.Background(), b, to)
	if err != nil {
		t.Fatal(err)
	}
	a, err := plan.Write(context.Background(), path, progress.None)
	if err != nil {
		t.Fatal(err)
	}
	return a
}

// TestRefusals: what can't be packed is said, and leaves nothing behind.
func TestRefusals(t *testing.T) {
	good := map[string]string{"index.html": page, "game.js": "1"}
	apart := *arcade
	apart.Archive.HandOver = "entry-apart"
	for name, c := range map[string]struct {
		files map[string]string
		to    For
		says  string
	}{
		"no page":         {map[string]string{"game.js": "1"}, For{}, "no HTML page"},
		"can't be lifted": {map[string]string{"web/index.html": page, "web/game.js": "1", "other/a.bin": "2"}, For{}, "not all files are in its folder"},
		"another form":    {good, For{Rules: &apart}, "writes zips only"},
	} {
		b, _ := build(t, c.files)
		if _, err := New(context.Background(), b, c.to); err == nil || !strings.Contains(err.Error(), c.says) {
			t.Errorf("%s: %v", name, err)
		}
	}
	b, folder := build(t, good)
	out := t.TempDir()
	write := func(ctx context.Context, to For) error {
		plan, err := New(context.Background(), b, to)
		if err != nil {
			t.Fatal(err)
		}
		_, err = plan.Write(ctx, filepath.Join(out, "a.zip"), progress.None)
		return err
	}
	var faulty *Faulty
	if err := write(context.Background(), For{Rules: arcade}); !errors.As(err, &faulty) || check.Errors(faulty.Findings) != 1 || faulty.Findings[0].ID != "hook-absent" {
		t.Errorf("an archive that the portal would not take: %v", err)
	}
	stopped, stop := context.WithCancel(context.Background())
	stop()
	if err := write(stopped, For{}); !errors.Is(err, context.Canceled) {
		t.Errorf("stopped: %v", err)
	}
	if err := os.WriteFile(filepath.Join(folder, "game.js"), []byte("2"), 0o644); err != nil {
		t.Fatal(err)
	}
	if err := write(context.Background(), For{}); err == nil || !strings.Contains(err.Error(), "game.js: it changed while it was packed") {
		t.Errorf("a file that changed: %v", err)
	}
	if entries, err := os.ReadDir(out); err != nil || len(entries) > 0 {
		t.Errorf("left behind: %v (%v)", entries, err)
	}
}
