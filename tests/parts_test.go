//go:build unix

package tests

import (
	"bytes"
	"fmt"
	"maps"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"havvel/internal/demo/game"
)

// TestChangedParts: of a large file in which a little changed, little travels, where the protocol has a way; and what is on the host is what
// was sent, whatever way it took.
func TestChangedParts(t *testing.T) {
	const size, changed = 48 << 20, 1 << 20
	most := map[string]int64{ // that may travel of the large file, in bytes
		"sftp":    changed + changed/25,
		"objects": 5<<20 + 100<<10, // the least that a store takes as one part
	}
	all := maps.Clone(machines)
	maps.Copy(all, others)
	for name, open := range all {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			h := open(t)
			r := rand.New(rand.NewPCG(3, 4))
			through := &relay{}
			if kind, _, _ := strings.Cut(h.address, ":"); kind != "ftp" && kind != "ftps" && kind != h.address { // whose data goes over connections of their own
				through = h.behind(t)
			}
			p := siteProject(t, h, "", "")
			if slices.Contains(h.env, "SHED_KEY="+guestPassword) && strings.HasPrefix(h.address, "sftp") {
				edit(t, p, "[to.shed]", "[to.shed]\nkey = \"env:SHED_KEY\"")
			}
			big := noise(r, size)
			writeInto(t, p, game.Files{"web/lane.pack": big})
			for i := range 40 {
				writeInto(t, p, game.Files{fmt.Sprintf("web/data/%d/%d.bin", i%5, i): noise(r, 3000+i)})
			}
			runWith(t, p, h.env, "send", "--accept-errors").must(t, 0)
			big = bytes.Join([][]byte{big[:20<<20], noise(r, changed), big[20<<20+changed-100:]}, nil)
			raise(t, p, "0.4.0", "0.4.1")
			os.Remove(filepath.Join(p, "web", "data", "1", "6.bin"))
			writeInto(t, p, game.Files{"web/lane.pack": big, "web/data/1/new.bin": noise(r, 500)})
			before := through.sent.Load()
			e := runWith(t, p, h.env, "send", "--accept-errors").must(t, 0)
			went := through.sent.Load() - before
			t.Logf("%d bytes went out: %s", went, e.out)
			if limit, ok := most[name]; ok && went > limit+64<<10 {
				t.Errorf("%d bytes went out for %d that changed", went, changed)
			}
			folders, _ := filepath.Glob(filepath.Join(h.root, "versions", "0.4.1-*"))
			if len(folders) != 1 {
				t.Fatalf("folders of the version: %v", folders)
			}
			here, there := snapshot(t, filepath.Join(p, "packed", "shed-0.4.1")), snapshot(t, folders[0])
			delete(there, "/havvel-files.json")
			if !maps.Equal(here, there) {
				t.Errorf("on the host are %v, and not %v", sizes(there), sizes(here))
			}
			if left := names(t, h.root); strings.Contains(left, "copying") {
				t.Errorf("it left something behind: %s", left)
			}
		})
	}
}

func sizes(files map[string]string) map[string]int {
	list := map[string]int{}
	for name, data := range files {
		list[name] = len(data)
	}
	return list
}

func names(t *testing.T, folder string) string {
	entries, err := os.ReadDir(folder)
	if err != nil {
		t.Fatal(err)
	}
	return fmt.Sprint(entries)
}
