package export

import (
	"context"
	"os"
	"path/filepath"
	"reflect"
	"testing"
	"time"
)

// TestCache: a second reading says the same as the first, notices every change, and survives a broken cache.
func TestCache(t *testing.T) {
	folder := t.TempDir()
	old := time.Now().Add(-time.Hour)
	put := func(name, data string, at time.Time) {
		t.Helper()
		path := filepath.Join(folder, name)
		if err := os.WriteFile(path, []byte(data), 0o644); err != nil {
			t.Fatal(err)
		}
		if err := os.Chtimes(path, at, at); err != nil {
			t.Fatal(err)
		}
	}
	put("index.html", "<title>t</title><canvas></canvas><script src=a.js></script>", old)
	put("a.js", `fetch("b.wasm")`, old)
	put("b.wasm", "\x00asm\x01\x00\x00\x00\x05\x03\x01\x00\x01", old)
	put("c.json", "{,}", old)
	c := NewCache(filepath.Join(t.TempDir(), "cache"))
	late := time.Now().Add(tooFresh + time.Second) // so that what was put here is old enough
	c.Now = func() time.Time { return late }
	read := func() *Build {
		t.Helper()
		b, err := c.Read(context.Background(), folder)
		if err != nil {
			t.Fatal(err)
		}
		b.Close()
		return b
	}
	first, second := read(), read()
	if second.news {
		t.Error("the second reading read files again")
	}
	for i, f := range first.Files {
		g := *second.Files[i]
		g.open, g.changed, g.settled = nil, f.changed, f.settled
		want := *f
		want.open = nil
		if !reflect.DeepEqual(want, g) {
			t.Errorf("%s\n first %+v\nsecond %+v", f.Path, want, g)
		}
	}
	if first.Fingerprint != second.Fingerprint || len(first.Links) != len(second.Links) || len(second.Links) != 2 {
		t.Errorf("%s %d, %s %d", first.Fingerprint, len(first.Links), second.Fingerprint, len(second.Links))
	}
	put("a.js", `fetch("c.wasm")`, old.Add(time.Millisecond)) // the same length
	if third := read(); third.Fingerprint == first.Fingerprint || third.Links[0].Result != Missing {
		t.Error("a change was not noticed")
	}
	c.Now = time.Now
	put("a.js", `fetch("d.wasm")`, time.Now())
	fresh := read()
	put("a.js", `fetch("e.wasm")`, fresh.File("a.js").changed) // written again within one step of the clock
	if again := read(); again.Fingerprint == fresh.Fingerprint {
		t.Error("a change of a fresh file was not noticed")
	}
	if err := os.Remove(filepath.Join(folder, "c.json")); err != nil {
		t.Fatal(err)
	}
	if b := read(); b.File("c.json") != nil {
		t.Error("a file that is gone is still there")
	}
	if err := os.WriteFile(c.file(folder), []byte("broken"), 0o644); err != nil {
		t.Fatal(err)
	}
	read()
}
