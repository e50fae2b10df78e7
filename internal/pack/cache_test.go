package pack

import (
	"bytes"
	"context"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"havvel/internal/progress"
)

// TestCacheKeeps: what is packed with a cache, without one, and with a damaged one, is the same.
func TestCacheKeeps(t *testing.T) {
	files := map[string]string{
		"index.html": page,
		"game.js":    "fetch('a.bin');fetch('b.bin')",
		"a.bin":      strings.Repeat("the lane is dark and long ", 100_000),
		"b.bin":      strings.Repeat("a lantern ", 3000),
	}
	folder := t.TempDir()
	pack := func(folder string) ([]byte, string) {
		t.Helper()
		b, _ := build(t, files)
		c := cache(t, folder)
		defer c.Close()
		plan, err := c.Plan(context.Background(), b, For{Rules: bare})
		if err != nil {
			t.Fatal(err)
		}
		a, err := plan.Write(context.Background(), filepath.Join(t.TempDir(), "a"), progress.None)
		if err != nil {
			t.Fatal(err)
		}
		data, err := os.ReadFile(a.Path)
		if err != nil {
			t.Fatal(err)
		}
		return data, a.SHA256
	}
	first, sum := pack(folder)
	again, sumAgain := pack(folder)
	none, sumNone := pack(t.TempDir())
	if !bytes.Equal(first, again) || !bytes.Equal(first, none) || sum != sumAgain || sum != sumNone {
		t.Error("the cache makes a difference")
	}
	files["game.js"] += " // changed"
	changed, sumChanged := pack(folder)
	fresh, sumFresh := pack(t.TempDir())
	if !bytes.Equal(changed, fresh) || sumChanged != sumFresh || sumChanged == sum {
		t.Error("after a change the cache makes a difference")
	}
	err := filepath.WalkDir(folder, func(path string, d os.DirEntry, err error) error {
		if err == nil && !d.IsDir() {
			info, _ := d.Info()
			err = os.Truncate(path, info.Size()/2)
		}
		return err
	})
	if err != nil {
		t.Fatal(err)
	}
	if damaged, sumDamaged := pack(folder); !bytes.Equal(damaged, fresh) || sumDamaged != sumFresh {
		t.Error("a damaged cache makes a difference")
	}
}

// TestBesideEachOther: an archive that is written while another has not got its name yet does not begin with what was under
// that name before.
func TestBesideEachOther(t *testing.T) {
	folder := t.TempDir()
	c := cache(t, filepath.Join(folder, "cache"))
	stem := filepath.Join(folder, "one")
	write := func(files map[string]string, inside func(*Plan)) {
		b, _ := build(t, files)
		plan, err := c.Plan(context.Background(), b, For{Rules: bare})
		if err != nil {
			t.Fatal(err)
		}
		_, err = plan.zipped(context.Background(), stem+".zip", plan.Items, progress.None, func(string) error { inside(plan); return nil })
		if err != nil {
			t.Fatal(err)
		}
	}
	write(map[string]string{"index.html": page, "game.js": strings.Repeat("of yesterday;", 9000)}, func(*Plan) {})
	files := map[string]string{"index.html": page, "game.js": strings.Repeat("of today;", 13000)}
	write(files, func(p *Plan) {
		a, err := p.Write(context.Background(), filepath.Join(folder, "two"), progress.None)
		if err != nil {
			t.Fatal(err)
		}
		if got := unpack(t, a.Path); got["game.js"] != files["game.js"] {
			t.Error("the second archive holds something else")
		}
	})
}
