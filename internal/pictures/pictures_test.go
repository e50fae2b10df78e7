package pictures

import (
	"bytes"
	"context"
	"encoding/binary"
	"image"
	"image/color"
	"image/jpeg"
	"image/png"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"havvel/internal/progress"
	"havvel/internal/project"
	"havvel/internal/rulebook"
	"havvel/internal/settings"
)

// drawn makes a picture of a function of its places, from 0 to 1.
func drawn(w, h int, at func(x, y float64) color.NRGBA) *image.NRGBA {
	m := image.NewNRGBA(image.Rect(0, 0, w, h))
	for y := range h {
		for x := range w {
			m.SetNRGBA(x, y, at(float64(x)/float64(w), float64(y)/float64(h)))
		}
	}
	return m
}

var (
	red   = color.NRGBA{255, 0, 0, 255}
	blue  = color.NRGBA{0, 0, 255, 255}
	lime  = color.NRGBA{0, 255, 0, 255}
	night = color.NRGBA{12, 14, 22, 255}
)

// flag is red to the left, blue to the right, lime in the upper left corner.
func flag(x, y float64) color.NRGBA {
	switch {
	case x < .25 && y < .5:
		return lime
	case x < .5:
		return red
	}
	return blue
}

func pngOf(t testing.TB, m image.Image) []byte {
	t.Helper()
	var b bytes.Buffer
	if err := png.Encode(&b, m); err != nil {
		t.Fatal(err)
	}
	return b.Bytes()
}

// rotated is a JPEG whose EXIF data says how it is to be turned.
func rotated(t testing.TB, m image.Image, turn uint16) []byte {
	t.Helper()
	var b bytes.Buffer
	if err := jpeg.Encode(&b, m, &jpeg.Options{Quality: 95}); err != nil {
		t.Fatal(err)
	}
	exif := []byte("Exif\x00\x00MM\x00*\x00\x00\x00\x08\x00\x01\x01\x12\x00\x03\x00\x00\x00\x01")
	exif = binary.BigEndian.AppendUint16(exif, turn)
	exif = append(exif, 0, 0, 0, 0, 0, 0)
	out := append([]byte{0xff, 0xd8, 0xff, 0xe1}, binary.BigEndian.AppendUint16(nil, uint16(len(exif)+2))...)
	return append(append(out, exif...), b.Bytes()[2:]...)
}

// near reports whether two colours are about the same.
func near(a, b color.Color) bool {
	x, y := color.NRGBAModel.Convert(a).(color.NRGBA), color.NRGBAModel.Convert(b).(color.NRGBA)
	far := func(a, b uint8) bool { return max(a, b)-min(a, b) > 40 }
	return !far(x.R, y.R) && !far(x.G, y.G) && !far(x.B, y.B) && !far(x.A, y.A)
}

// made cuts one master for one kind of picture.
func made(t testing.TB, data []byte, name string, want rulebook.Picture, change func(*project.Picture)) (*Order, image.Image) {
	t.Helper()
	folder := t.TempDir()
	if data != nil {
		if err := os.WriteFile(filepath.Join(folder, name), data, 0o644); err != nil {
			t.Fatal(err)
		}
	}
	want.Name, want.Required = "it", true
	if want.Role == "" {
		want.Role = "cover"
	}
	m := project.Picture{File: name, Roles: []string{want.Role}}
	if change != nil {
		change(&m)
	}
	d := &project.Destination{Name: "arcade", Rules: &rulebook.Rulebook{Name: "Arcade",
		PageRules: rulebook.PageRules{Pictures: []rulebook.Picture{want}}}}
	p := &project.Project{Folder: folder, Pictures: []project.Picture{m}}
	orders, err := Make(context.Background(), p, []*project.Destination{d}, progress.None)
	if err != nil {
		t.Fatal(err)
	}
	if len(orders[0].Cuts) == 0 {
		return orders[0], nil
	}
	cut, err := readCut(orders[0].Cuts[0])
	if err != nil {
		t.Fatal(err)
	}
	if c := orders[0].Cuts[0]; cut.Bounds().Dx() != c.Width || cut.Bounds().Dy() != c.Height {
		t.Errorf("says %dx%d and has %v", c.Width, c.Height, cut.Bounds())
	}
	return orders[0], cut
}

func kinds(o *Order) string {
	var list []string
	for _, p := range o.Problems {
		list = append(list, string(p.Kind))
	}
	slices.Sort(list)
	return strings.Join(list, " ")
}

// TestMasters cuts masters of many kinds, and looks for their colours where they belong.
func TestMasters(t *testing.T) {
	deep := image.NewNRGBA64(image.Rect(0, 0, 40, 20))
	few := image.NewPaletted(image.Rect(0, 0, 40, 20), color.Palette{red, blue, lime})
	for y := range 20 {
		for x := range 40 {
			c := flag(float64(x)/40, float64(y)/20)
			deep.Set(x, y, c)
			few.Set(x, y, c)
		}
	}
	files := map[string][]byte{
		"plain.png": pngOf(
			t,
			drawn(40, 20, flag),
		), "deep.png": pngOf(t, deep), "few.png": pngOf(t, few), "plain.jpg": rotated(t, drawn(40, 20, flag), 1),
	}
	for _, name := range []string{"cmyk.jpg", "progressive.jpg", "plain.webp", "anim.gif", "anim.webp"} {
		data, err := os.ReadFile(filepath.Join("testdata", name))
		if err != nil {
			t.Fatal(err)
		}
		files[name] = data
	}
	for name, data := range files {
		o, m := made(t, data, name, rulebook.Picture{Size: [2]int{20, 10}}, nil)
		if m == nil {
			t.Errorf("%s: %+v", name, o.Problems)
			continue
		}
		for at, want := range map[image.Point]color.Color{{2, 2}: lime, {2, 8}: red, {17, 5}: blue} {
			if got := m.At(at.X, at.Y); !near(got, want) {
				t.Errorf("%s at %v: %v, want %v", name, at, got, want)
			}
		}
	}
	turns := map[uint16][3]image.Point{ // where lime, red and blue are seen in 10x20 or 20x10
		2: {{17, 2}, {17, 8}, {2, 5}}, 3: {{17, 8}, {17, 2}, {2, 5}}, 4: {{2, 8}, {2, 2}, {17, 5}},
		5: {{2, 2}, {8, 2}, {5, 17}}, 6: {{8, 2}, {2, 2}, {5, 17}}, 7: {{8, 17}, {2, 17}, {5, 2}}, 8: {{2, 17}, {8, 17}, {5, 2}},
	}
	for turn, places := range turns {
		size := [2]int{20, 10}
		if turn >= 5 {
			size = [2]int{10, 20}
		}
		_, m := made(t, rotated(t, drawn(40, 20, flag), turn), "turned.jpg", rulebook.Picture{Size: size}, nil)
		for i, want := range []color.Color{lime, red, blue} {
			if got := m.At(places[i].X, places[i].Y); !near(got, want) {
				t.Errorf("turned %d: at %v is %v, want %v", turn, places[i], got, want)
			}
		}
	}
}

// TestBroken: a master that can't be used is said, with what to do.
func TestBroken(t *testing.T) {
	whole := pngOf(t, drawn(40, 20, flag))
	animated, err := os.ReadFile("testdata/anim.webp")
	if err != nil {
		t.Fatal(err)
	}
	headless := bytes.ReplaceAll(animated, []byte("ANMF"), []byte("ANMG"))
	huge := []byte("\x89PNG\r\n\x1a\n\x00\x00\x00\x0dIHDR\x00\x01\x00\x00\x00\x01\x00\x00\x08\x06\x00\x00\x00")
	huge = append(huge, "\xa4\x6e\x58\x41"...) // 65536x65536
	for name, c := range map[string]struct {
		data []byte
		says string
	}{
		"absent.png": {nil, "there is no such file"}, "empty.png": {[]byte{}, "it is empty"}, "cut.png": {whole[:len(whole)/2], "it is broken"},
		"text.png": {[]byte("version of a large file, kept elsewhere"), "no PNG, JPEG, WebP, GIF, SVG, WebM or MP4"},
		"cut.webp": {animated[:120], "it ends too early"}, "huge.png": {huge, ""}, "headless.webp": {headless, "it has no picture"},
		"noise.jpg": {append([]byte("\xff\xd8\xff\xc0\x00\x11\x08\x00\x10\x00\x10"), bytes.Repeat([]byte{0x5a}, 400)...), "it is broken"},
	} {
		o, m := made(t, c.data, name, rulebook.Picture{Size: [2]int{20, 10}}, nil)
		if m != nil || kinds(o) != string(Broken) || !strings.Contains(o.Problems[0].Message, c.says) || o.Problems[0].Fix == "" {
			t.Errorf("%s: %+v", name, o.Problems)
		}
	}
}

// TestSizes: where a cut is taken, how large it is, and what is said of it.
func TestSizes(t *testing.T) {
	bands := func(x, _ float64) color.NRGBA { return color.NRGBA{uint8(255 * x), 0, 128, 255} } // redder to the right
	for name, c := range map[string]struct {
		w, h  int
		want  rulebook.Picture
		focus []int
		whole bool
		size  image.Point
		kinds string
		left  uint8 // red at the left edge, about
	}{
		"exact":               {400, 200, rulebook.Picture{Size: [2]int{200, 100}}, nil, false, image.Pt(200, 100), "", 0},
		"cut in the middle":   {400, 200, rulebook.Picture{Size: [2]int{100, 100}}, nil, false, image.Pt(100, 100), "", 64},
		"cut at its focus":    {400, 200, rulebook.Picture{Size: [2]int{100, 100}}, []int{100, 50}, false, image.Pt(100, 100), "", 128},
		"too small":           {100, 50, rulebook.Picture{Size: [2]int{400, 200}}, nil, false, image.Pt(400, 200), "picture-small", 0},
		"at least, any shape": {600, 200, rulebook.Picture{Least: [2]int{300, 100}}, nil, false, image.Pt(600, 200), "", 0},
		"at least, much more": {3000, 1000, rulebook.Picture{Least: [2]int{300, 100}}, nil, false, image.Pt(600, 200), "", 0},
		"a ratio":             {400, 400, rulebook.Picture{Ratio: "16:9", Least: [2]int{320, 180}}, nil, false, image.Pt(400, 225), "", 0},
		"one pixel":           {1, 1, rulebook.Picture{Size: [2]int{20, 20}}, nil, false, image.Pt(20, 20), "picture-dim picture-small", 0},
	} {
		if name == "one pixel" {
			c.want.Role = "cover"
		} else {
			c.want.Role = "banner"
		}
		o, m := made(t, pngOf(t, drawn(c.w, c.h, bands)), "bands.png", c.want, func(p *project.Picture) { p.Focus, p.Whole = c.focus, c.whole })
		if m == nil || m.Bounds().Size() != c.size || kinds(o) != c.kinds {
			t.Errorf("%s: %v %+v", name, m, o.Problems)
			continue
		}
		r, _, _, _ := m.At(0, 0).RGBA()
		if got := uint8(r >> 8); max(got, c.left)-min(got, c.left) > 12 {
			t.Errorf("%s: %d at the left edge, want %d", name, got, c.left)
		}
	}
	_, m := made(
		t,
		pngOf(t, drawn(100, 100, flag)),
		"whole.png",
		rulebook.Picture{Size: [2]int{200, 100}, Role: "banner", Formats: []string{"png"}},
		func(p *project.Picture) { p.Whole, p.Surround = true, "#0000ff" },
	)
	if !near(m.At(5, 50), blue) || !near(m.At(60, 80), red) || !near(m.At(60, 10), lime) {
		t.Errorf("whole, with a surround: %v %v %v", m.At(5, 50), m.At(60, 80), m.At(60, 10))
	}
	_, m = made(
		t,
		pngOf(t, drawn(100, 100, flag)),
		"blur.png",
		rulebook.Picture{Size: [2]int{200, 100}, Role: "banner"},
		func(p *project.Picture) { p.Whole, p.Surround = true, "blur" },
	)
	if r, _, b, a := m.At(195, 50).RGBA(); a != 0xffff || b < 0x3000 || r > 0x4000 {
		t.Errorf("a soft surround goes on as the picture does: %v", m.At(195, 50))
	}
}

// TestLight: black and white pixels side by side are as bright from afar as half the light, which is 188 in sRGB, and not 128.
func TestLight(t *testing.T) {
	fine := image.NewNRGBA(image.Rect(0, 0, 64, 64))
	for i := range 64 * 64 {
		v := uint8(255 * ((i + i/64) % 2))
		fine.Pix[4*i], fine.Pix[4*i+1], fine.Pix[4*i+2], fine.Pix[4*i+3] = v, v, v, 255
	}
	m := scaled(fine, region{0, 0, 64, 64}, 16, 16).image()
	if v := m.NRGBAAt(8, 8).R; v < 185 || v > 191 {
		t.Errorf("half the light is %d", v)
	}
	clear := drawn(8, 8, func(x, _ float64) color.NRGBA {
		if x < .5 {
			return color.NRGBA{0, 255, 0, 0} // its colour is not seen
		}
		return red
	})
	if c := scaled(clear, region{0, 0, 8, 8}, 2, 2).image().NRGBAAt(1, 0); c.G > 8 {
		t.Errorf("a colour that nobody sees bleeds: %v", c)
	}
}

// TestWeight: JPEG is as good as the limit allows, PNG has few colours only when asked.
func TestWeight(t *testing.T) {
	chance := rand.New(rand.NewPCG(1, 2))
	noisy := pngOf(t, drawn(320, 180, func(x, y float64) color.NRGBA {
		return color.NRGBA{uint8(255 * x), uint8(200 * y), uint8(chance.IntN(90)), 255}
	}))
	for limit, want := range map[int]string{60_000: "", 12_000: "", 900: "picture-heavy"} {
		o, _ := made(t, noisy, "noisy.png", rulebook.Picture{Size: [2]int{320, 180}, Limit: settings.Size(limit)}, nil)
		if kinds(o) != want || want == "" && o.Cuts[0].Bytes > int64(limit) || o.Cuts[0].Type != "image/jpeg" {
			t.Errorf("within %d: %+v %+v", limit, o.Cuts[0], o.Problems)
		}
	}
	only := rulebook.Picture{Size: [2]int{320, 180}, Limit: 50_000, Formats: []string{"png"}}
	if o, _ := made(t, noisy, "noisy.png", only, nil); kinds(o) != "picture-heavy" || !strings.Contains(o.Problems[0].Fix, "few_colours") {
		t.Errorf("a heavy PNG: %+v", o.Problems)
	}
	o, m := made(t, noisy, "noisy.png", only, func(p *project.Picture) { p.FewColours = true })
	if _, few := m.(*image.Paletted); kinds(o) != "" || !few {
		t.Errorf("with few colours: %T %+v", m, o.Problems)
	}
	flat := pngOf(t, drawn(320, 180, flag))
	if o, _ := made(t, flat, "flat.png", rulebook.Picture{Size: [2]int{320, 180}, Limit: 60_000}, nil); o.Cuts[0].Type != "image/png" {
		t.Errorf("a picture of few colours is no photograph: %+v", o.Cuts[0])
	}
}

// TestJudgement: what is dark, flat, see-through, or shows its edges.
func TestJudgement(t *testing.T) {
	clear := func(x, y float64) color.NRGBA {
		if (x-.5)*(x-.5)+(y-.5)*(y-.5) < .1 {
			return color.NRGBA{255, 200, 90, 255}
		}
		return color.NRGBA{}
	}
	slope := func(x, _ float64) color.NRGBA { return color.NRGBA{uint8(200 * x), 60, 60, 255} }
	tile := func(x, y float64) color.NRGBA {
		v := uint8(128 + 60*wave(x) + 60*wave(y))
		return color.NRGBA{v, v, v, 255}
	}
	lit := func(x, y float64) color.NRGBA {
		if x > .4 && x < .6 && y > .3 && y < .7 {
			return color.NRGBA{255, 190, 90, 255}
		}
		return night
	}
	for name, c := range map[string]struct {
		at   func(x, y float64) color.NRGBA
		want rulebook.Picture
		set  func(*project.Picture)
		says string
	}{
		"dark": {func(x, _ float64) color.NRGBA { return color.NRGBA{uint8(40 * x), 10, 20, 255} },
			rulebook.Picture{Role: "cover"}, nil, "picture-dim"},
		"flat": {func(x, _ float64) color.NRGBA { return color.NRGBA{uint8(140 + 20*x), 140, 150, 255} },
			rulebook.Picture{Role: "cover"}, nil, "picture-dim"},
		"a light at night":    {lit, rulebook.Picture{Role: "cover"}, nil, ""},
		"transparent":         {clear, rulebook.Picture{Role: "icon", Opaque: true}, nil, "picture-transparent"},
		"transparent, filled": {clear, rulebook.Picture{Role: "icon", Opaque: true}, func(p *project.Picture) { p.Surround = "#203040" }, ""},
		"transparent, taken":  {clear, rulebook.Picture{Role: "icon"}, nil, ""},
		"edges":               {slope, rulebook.Picture{Role: "background", Tiles: true}, nil, "picture-seam"},
		"no edges":            {tile, rulebook.Picture{Role: "background", Tiles: true}, nil, ""},
	} {
		c.want.Size = [2]int{128, 128}
		o, m := made(t, pngOf(t, drawn(128, 128, c.at)), "m.png", c.want, c.set)
		if kinds(o) != c.says {
			t.Errorf("%s: %+v", name, o.Problems)
		}
		_, _, _, alpha := m.At(2, 2).RGBA()
		if name == "transparent, taken" && alpha != 0 || name != "transparent, taken" && alpha != 0xffff {
			t.Errorf("%s: alpha %d", name, alpha)
		}
	}
}

func wave(x float64) float64 {
	x = x - float64(int(x))
	return 16*x*x*(1-x)*(1-x)*2 - 1
}

// FuzzHeader reads masters that somebody else wrote.
func FuzzHeader(f *testing.F) {
	for _, name := range []string{"cmyk.jpg", "plain.webp", "anim.gif", "anim.webp", "anim-part.webp", "anim-clear.webp", "progressive.jpg"} {
		data, err := os.ReadFile(filepath.Join("testdata", name))
		if err != nil {
			f.Fatal(err)
		}
		f.Add(data)
	}
	f.Add(rotated(f, drawn(4, 4, flag), 6))
	f.Add([]byte("\x1a\x45\xdf\xa3\x80\x18\x53\x80\x67\xff\x16\x54\xae\x6b\x90\xae\x8e\xe0\x8c\xb0\x82\x02\x80\xba\x82\x01\x68"))
	f.Fuzz(func(t *testing.T, data []byte) {
		h, err := readHeader("x", bytes.NewReader(data))
		if err != nil || h.width > 400 || h.height > 400 || h.format == "webm" {
			return
		}
		decode(bytes.NewReader(data))
	})
}
