package sourcemap

import (
	"os"
	"path/filepath"
	"testing"
)

func readFile(t testing.TB, name string) []byte {
	t.Helper()
	data, err := os.ReadFile(filepath.Join("testdata", name))
	if err != nil {
		t.Fatal(err)
	}
	return data
}

// TestAt: places of a stack, in scripts that a bundler made smaller, are where the sources have them.
func TestAt(t *testing.T) {
	script := readFile(t, "lane.js")
	address, _ := Named(script)
	if address != "lane.js.map" {
		t.Fatalf("it names %q", address)
	}
	m, err := Read(readFile(t, address))
	if err != nil {
		t.Fatal(err)
	}
	for column, want := range map[int]Place{
		43:  {"../src/lantern.ts", 6, 26},
		199: {"../src/lane.ts", 6, 15},
		265: {"../src/lane.ts", 11, 7},
	} {
		if got, ok := m.At(1, column); !ok || got != want {
			t.Errorf("column %d: %+v, want %+v", column, got, want)
		}
	}
	for _, at := range [][2]int{{0, 1}, {9, 1}, {-1, -1}} {
		if got, ok := m.At(at[0], at[1]); ok {
			t.Errorf("%v: %+v", at, got)
		}
	}
	_, inside := Named(readFile(t, "inline.js"))
	m, err = Read(inside)
	if err != nil {
		t.Fatal(err)
	}
	if got, ok := m.At(1, 43); !ok || got.Source == "" || got.Line < 1 {
		t.Errorf("a map inside of its script: %+v", got)
	}
}

// FuzzRead: no map makes the reader fail, or finds a place that can't be.
func FuzzRead(f *testing.F) {
	f.Add([]byte(`{"version": 3, "sources": ["a.ts"], "mappings": "AAAA,CAAC;;AACA"}`), 1, 1)
	f.Add(readFile(f, "lane.js.map"), 1, 43)
	f.Fuzz(func(t *testing.T, data []byte, line, column int) {
		m, err := Read(data)
		if err != nil {
			return
		}
		if p, ok := m.At(line, column); ok && (p.Line < 1 || p.Column < 1) {
			t.Errorf("%+v", p)
		}
	})
}
