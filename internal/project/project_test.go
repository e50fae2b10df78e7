package project

import (
	"os"
	"path/filepath"
	"testing"
	"time"
)

func TestShortFrom(t *testing.T) {
	for title, want := range map[string]string{
		"Tinderwick Lane": "tinderwick-lane", "  L'Été: brûlé!  ": "lete-brule", "夜": "game", "A--B 2": "a-b-2", "": "game",
	} {
		got := ShortFrom(title)
		if got != want || !shortName.MatchString(got) {
			t.Errorf("%q: %q, want %q", title, got, want)
		}
	}
}

// TestNewest: only what the game is made from counts, not what tools and havvel wrote.
func TestNewest(t *testing.T) {
	folder := t.TempDir()
	p := &Project{Folder: folder, Game: Game{Export: "web"}}
	old := time.Now().Add(-time.Hour)
	for name, age := range map[string]time.Duration{
		"src/lane.c": 0, "src/old.c": -time.Minute, "web/index.html": time.Minute, ".git/index": time.Minute, "packed/a.zip": time.Minute,
		"node_modules/x/a.js": time.Minute, Name: time.Minute, "notes.log": time.Minute, ".havvel/logbook.jsonl": time.Minute,
	} {
		path := filepath.Join(folder, filepath.FromSlash(name))
		if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(path, nil, 0o644); err != nil {
			t.Fatal(err)
		}
		if err := os.Chtimes(path, old.Add(age), old.Add(age)); err != nil {
			t.Fatal(err)
		}
	}
	if path, changed := p.Newest(); filepath.ToSlash(path) != "src/lane.c" || !changed.Equal(old) && changed.Sub(old).Abs() > time.Second {
		t.Errorf("%s %v", path, changed)
	}
	for name, text := range map[string]string{
		Name: "[game]\ntitle = \"Lane\"\nshort = \"lane\"\nversion = \"1\"\nexport = \"web\"\n[listing]\ndescription = \"page/words.md\"\n" +
			"[to.near]\naddress = \"./public\"\n",
		"lane/moth.c": "", "page/words.md": "A lane.", "public/index.html": "<title>Lane</title>",
	} {
		os.MkdirAll(filepath.Dir(filepath.Join(folder, name)), 0o755)
		if err := os.WriteFile(filepath.Join(folder, name), []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	read, err := Find(folder)
	if err != nil {
		t.Fatal(err)
	}
	soon := time.Now().Add(time.Minute) // a folder that is called as a word in havvel.toml is the game's all the same
	if err := os.Chtimes(filepath.Join(folder, "lane/moth.c"), soon, soon); err != nil {
		t.Fatal(err)
	}
	for _, name := range []string{"page/words.md", "public/index.html"} {
		if err := os.Chtimes(filepath.Join(folder, name), soon.Add(time.Minute), soon.Add(time.Minute)); err != nil {
			t.Fatal(err)
		}
	}
	if path, _ := read.Newest(); filepath.ToSlash(path) != "lane/moth.c" {
		t.Errorf("%s is for havvel, or too old", path)
	}
	if path, _ := (&Project{Folder: t.TempDir(), Game: Game{Export: "web"}}).Newest(); path != "" {
		t.Errorf("an empty project has %s", path)
	}
}

// TestText: what start writes is read back as it was meant, whatever stands in it.
func TestText(t *testing.T) {
	for _, title := range []string{"Tinderwick Lane", `L'"été" \ 夜`, "tab\there", "<&>"} {
		p := &Project{
			Game: Game{Title: title, Short: ShortFrom(title), Studio: "Moor & Thimble", Version: "0.1.0", Export: "export/web (1)"},
			To:   map[string]*Destination{"brackwater": {Rulebook: "brackwater", Key: "env:A_KEY"}},
		}
		text, err := Text(p)
		if err != nil {
			t.Fatal(err)
		}
		folder := t.TempDir()
		if err := os.WriteFile(filepath.Join(folder, Name), text, 0o644); err != nil {
			t.Fatal(err)
		}
		back, err := Find(folder)
		if err != nil || back.Game != p.Game || back.To["brackwater"].Key != "env:A_KEY" {
			t.Errorf("%q: %+v %v\n%s", title, back, err, text)
		}
	}
}
