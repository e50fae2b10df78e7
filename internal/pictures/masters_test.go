package pictures

import (
	"bytes"
	"context"
	"image/color"
	"image/png"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"havvel/internal/progress"
	"havvel/internal/project"
	"havvel/internal/rulebook"
)

// cuts makes the pictures of one portal from files, by the names and roles of masters.
func cuts(t *testing.T, files map[string][]byte, masters []project.Picture, wants ...rulebook.Picture) *Order {
	t.Helper()
	folder := t.TempDir()
	for name, data := range files {
		if err := os.WriteFile(filepath.Join(folder, name), data, 0o644); err != nil {
			t.Fatal(err)
		}
	}
	d := &project.Destination{Name: "arcade", Rules: &rulebook.Rulebook{Name: "Arcade", PageRules: rulebook.PageRules{Pictures: wants}}}
	orders, err := Make(context.Background(), &project.Project{Folder: folder, Pictures: masters}, []*project.Destination{d}, progress.None)
	if err != nil {
		t.Fatal(err)
	}
	return orders[0]
}

// TestWhichMaster: of several masters the one is taken whose shape is the nearest, and of clips the one of the wanted size.
func TestWhichMaster(t *testing.T) {
	files := map[string][]byte{
		"wide.png": pngOf(t, drawn(400, 200, flag)), "square.png": pngOf(t, drawn(300, 300, flag)), "tall.png": pngOf(t, drawn(200, 400, flag)),
		"large.webm": film("\x02\x80", "\x01\x68"), "small.webm": film("\x01\xe0", "\x01\x0e"), "broken.png": []byte("no picture"),
	}
	masters := []project.Picture{
		{
			File:  "square.png",
			Roles: []string{"cover", "icon"},
		}, {File: "wide.png", Roles: []string{"cover"}}, {File: "tall.png", Roles: []string{"cover"}},
		{File: "broken.png", Roles: []string{"cover"}},
		{
			File:  "large.webm",
			Roles: []string{"clip"},
		}, {File: "small.webm", Roles: []string{"clip"}}, {File: "wide.png", Roles: []string{"banner"}, Only: []string{"elsewhere"}},
	}
	o := cuts(
		t,
		files,
		masters,
		rulebook.Picture{
			Name: "wide",
			Role: "cover",
			Size: [2]int{180, 100},
		},
		rulebook.Picture{Name: "tall", Role: "cover", Size: [2]int{60, 100}},
		rulebook.Picture{Name: "square", Role: "cover", Size: [2]int{100, 100}},
		rulebook.Picture{
			Name:    "clip",
			Role:    "clip",
			Size:    [2]int{480, 270},
			Formats: []string{"webm"},
		},
		rulebook.Picture{Name: "gif", Role: "clip", Size: [2]int{480, 270}, Formats: []string{"gif"}, Required: true},
		rulebook.Picture{Name: "banner", Role: "banner", Size: [2]int{100, 20}, Required: true},
	)
	var got []string
	for _, c := range o.Cuts {
		got = append(got, c.Name+" from "+c.Master)
	}
	if want := "wide from wide.png, tall from tall.png, square from square.png, clip from small.webm"; strings.Join(got, ", ") != want {
		t.Errorf("%s, want %s", strings.Join(got, ", "), want)
	}
	if kinds(o) != "picture-missing picture-missing" { // the GIF, and the banner that is for another portal
		t.Errorf("%+v", o.Problems)
	}
	o = cuts(t, files, masters, rulebook.Picture{Name: "clip", Role: "clip", Size: [2]int{600, 300}, Limit: 10})
	if kinds(o) != "picture-heavy picture-small" {
		t.Errorf("a clip of another size, too heavy: %+v", o.Problems)
	}
}

// TestSheet: all cuts are on the sheet, the cover once more and small, and what is missing has a frame.
func TestSheet(t *testing.T) {
	gold := color.NRGBA{250, 190, 40, 255}
	files := map[string][]byte{
		"gold.png":  pngOf(t, drawn(320, 180, func(float64, float64) color.NRGBA { return gold })),
		"film.webm": film("\x02\x80", "\x01\x68"),
	}
	var wants []rulebook.Picture
	for _, name := range []string{"one", "two", "three", "four", "five", "six", "seven"} { // more than go into a row
		wants = append(wants, rulebook.Picture{Name: name, Role: "banner", Size: [2]int{320, 180}})
	}
	wants = append(
		wants,
		rulebook.Picture{Name: "front", Role: "cover", Size: [2]int{320, 180}},
		rulebook.Picture{Name: "icon", Role: "icon", Size: [2]int{64, 64}, Required: true},
		rulebook.Picture{Name: "film", Role: "clip", Least: [2]int{64, 64}},
	)
	o := cuts(
		t,
		files,
		[]project.Picture{{File: "gold.png", Roles: []string{"banner", "cover"}}, {File: "film.webm", Roles: []string{"clip"}}},
		wants...)
	sheet := filepath.Join(t.TempDir(), "sheet.png")
	draw := func(title string) []byte {
		t.Helper()
		if err := WriteSheet(sheet, title, []*Order{o, o, o}); err != nil {
			t.Fatal(err)
		}
		data, err := os.ReadFile(sheet)
		if err != nil {
			t.Fatal(err)
		}
		return data
	}
	data := draw("Lane")
	if err := os.WriteFile(sheet, data[:len(data)-1], 0o644); err != nil { // a byte short, and so told apart
		t.Fatal(err)
	}
	if same := draw("Lane"); len(same) != len(data)-1 {
		t.Error("a sheet that shows the same was drawn again")
	}
	if other := draw("Hill"); bytes.Equal(other, data) {
		t.Error("a sheet that shows another title was not drawn again")
	}
	m, err := png.Decode(bytes.NewReader(data))
	if err != nil {
		t.Fatal(err)
	}
	golden, framed := 0, 0
	b := m.Bounds()
	for y := b.Min.Y; y < b.Max.Y; y++ {
		for x := b.Min.X; x < b.Max.X; x++ {
			switch c := color.NRGBAModel.Convert(m.At(x, y)).(color.NRGBA); c {
			case gold:
				golden++
			case alarm:
				framed++
			}
		}
	}
	large, small := 8*(cellHigh*320/180)*cellHigh, thumbnail*(thumbnail*180/320)
	if want := 3 * (large + 2*small); golden < want*98/100 || golden > want*102/100 || framed < 3*2*(cellWide+cellHigh)-30 {
		t.Errorf("%d golden pixels, want %d; %d of frames, in %v", golden, want, framed, b)
	}
	if b.Dx() != sheetWide || b.Dy() < 3*3*(cellHigh+40) {
		t.Errorf("the sheet is %v", b)
	}
}
