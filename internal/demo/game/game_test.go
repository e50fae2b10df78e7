package game

import (
	"bytes"
	"os"
	"os/exec"
	"path/filepath"
	"testing"
)

// TestSize: the exports that come with the program stay small.
func TestSize(t *testing.T) {
	total := 0
	for _, files := range []Files{WasmSplit(), SinglePage()} {
		for _, data := range files {
			total += len(data)
		}
	}
	if total > 2_000_000 {
		t.Errorf("together they have %d bytes", total)
	}
}

// TestMade: the data file is what make makes, byte for byte.
func TestMade(t *testing.T) {
	folder := t.TempDir()
	if out, err := exec.Command("go", "run", "./make", folder).CombinedOutput(); err != nil {
		t.Fatalf("%v\n%s", err, out)
	}
	for _, name := range []string{"lane.pack", "backdrop.png", "icon.png"} {
		fresh, err := os.ReadFile(filepath.Join(folder, name))
		if err != nil {
			t.Fatal(err)
		}
		if !bytes.Equal(fresh, read(name)) {
			t.Errorf("%s is not what make makes; run go generate ./internal/demo/game", name)
		}
	}
}

// TestChanged: a changed export differs in that file only, and the first stays as it was.
func TestChanged(t *testing.T) {
	first := WasmSplit()
	second := first.Changed("style.css", "backdrop.png", "dawn.png")
	if bytes.Equal(first["style.css"], second["style.css"]) || !bytes.Contains(first["style.css"], []byte("backdrop.png")) {
		t.Error("the change went to the wrong copy, or nowhere")
	}
	for name := range first {
		if name != "style.css" && !bytes.Equal(first[name], second[name]) {
			t.Errorf("%s changed too", name)
		}
	}
}
