package pictures

import (
	"context"
	"errors"
	"fmt"
	"image/color"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"havvel/internal/progress"
	"havvel/internal/project"
	"havvel/internal/rulebook"
)

// TestAgain: what was cut is taken as it is, until master or rulebook change, or the file is not what it was.
func TestAgain(t *testing.T) {
	folder := t.TempDir()
	d := &project.Destination{
		Name: "arcade",
		Rules: &rulebook.Rulebook{
			Name: "Arcade",
			PageRules: rulebook.PageRules{Pictures: []rulebook.Picture{
				{Name: "shots", Role: "screenshot", Size: [2]int{64, 36}, Count: [2]int{2, 3}},
			}},
		},
	}
	p := &project.Project{Folder: folder}
	for i := range 4 {
		name := fmt.Sprintf("shot-%d.png", i)
		if err := os.WriteFile(filepath.Join(folder, name), pngOf(t,
			drawn(128, 72, func(x, y float64) color.NRGBA { return color.NRGBA{uint8(60 * i), uint8(255 * x), 0, 255} })), 0o644); err != nil {
			t.Fatal(err)
		}
		p.Pictures = append(p.Pictures, project.Picture{File: name, Roles: []string{"screenshot"}})
	}
	cut := func() *Order {
		t.Helper()
		orders, err := Make(context.Background(), p, []*project.Destination{d}, progress.None)
		if err != nil {
			t.Fatal(err)
		}
		return orders[0]
	}
	o := cut()
	if len(o.Cuts) != 3 || kinds(o) != "picture-left-out" {
		t.Fatalf("%+v %+v", o.Cuts, o.Problems)
	}
	old := time.Now().Add(-time.Hour)
	for _, c := range o.Cuts {
		if err := os.Chtimes(c.Path, old, old); err != nil {
			t.Fatal(err)
		}
	}
	if err := os.WriteFile(o.Cuts[1].Path, []byte("spoiled"), 0o644); err != nil {
		t.Fatal(err)
	}
	p.Pictures = p.Pictures[:2]
	again := cut()
	if len(again.Cuts) != 2 || kinds(again) != "" {
		t.Fatalf("%+v %+v", again.Cuts, again.Problems)
	}
	if info, err := os.Stat(again.Cuts[0].Path); err != nil || info.ModTime().After(old.Add(time.Minute)) {
		t.Error("cut again, though nothing has changed")
	}
	if sum, err := hashOf(again.Cuts[1].Path); err != nil || sum != again.Cuts[1].SHA256 {
		t.Error("a spoiled cut was taken as it is")
	}
	if _, err := os.Stat(o.Cuts[2].Path); !errors.Is(err, os.ErrNotExist) {
		t.Error("a cut that nobody wants any more stays")
	}
	p.Pictures = p.Pictures[:1]
	if o := cut(); kinds(o) != string(Missing) || !strings.Contains(o.Problems[0].Message, "1 of 2") {
		t.Errorf("too few: %+v", o.Problems)
	}
}
