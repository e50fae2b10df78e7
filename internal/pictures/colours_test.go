package pictures

import (
	"bytes"
	"encoding/binary"
	"hash/crc32"
	"image"
	"image/color"
	"image/gif"
	"image/png"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"havvel/internal/project"
	"havvel/internal/rulebook"
)

// TestColours: pictures in other colour spaces come out in sRGB, as another program's colour engine brings them there (files and figures are
// from ImageMagick with LittleCMS, relative colorimetric).
func TestColours(t *testing.T) {
	p3 := [3][3]int{{255, 0, 0}, {0, 203, 12}, {117, 130, 141}}
	for name, want := range map[string][3][3]int{
		"p3.png": p3, "p3.jpg": p3, "p3.webp": p3, "p3-lossless.webp": p3, "cicp.png": p3,
		"adobe.png":    {{255, 47, 28}, {0, 201, 36}, {116, 131, 141}},
		"prophoto.png": {{255, 0, 34}, {0, 229, 0}, {124, 150, 159}},
		"gray.png":     {{107, 107, 107}, {169, 169, 169}, {146, 146, 146}},
		"gamma.png":    {{245, 124, 104}, {96, 229, 133}, {182, 189, 195}},
		"plain.webp":   {{235, 50, 35}, {29, 200, 60}, {120, 130, 140}},
	} {
		data, err := os.ReadFile(filepath.Join("testdata", "colours", name))
		if err != nil {
			t.Fatal(err)
		}
		o, m := made(t, data, name, rulebook.Picture{Size: [2]int{24, 16}, Formats: []string{"png"}}, nil)
		if m == nil {
			t.Errorf("%s: %+v", name, o.Problems)
			continue
		}
		for i, c := range want {
			got := color.NRGBAModel.Convert(m.At(8*i+4, 8)).(color.NRGBA)
			for k, v := range [3]uint8{got.R, got.G, got.B} {
				if d := int(v) - c[k]; d > 3 || d < -3 {
					t.Errorf("%s, colour %d: %v, want %v", name, i, got, c)
					break
				}
			}
		}
	}
}

// turnedPNG is a PNG whose EXIF data say how it is to be turned.
func turnedPNG(t *testing.T, m image.Image, turn uint16) []byte {
	t.Helper()
	var b bytes.Buffer
	if err := png.Encode(&b, m); err != nil {
		t.Fatal(err)
	}
	exif := []byte("MM\x00\x2a\x00\x00\x00\x08\x00\x01\x01\x12\x00\x03\x00\x00\x00\x01\x00\x00\x00\x00\x00\x00\x00\x00")
	binary.BigEndian.PutUint16(exif[18:], turn)
	chunk := append(binary.BigEndian.AppendUint32(nil, uint32(len(exif))), "eXIf"...)
	chunk = append(chunk, exif...)
	chunk = binary.BigEndian.AppendUint32(chunk, crc32.ChecksumIEEE(chunk[4:]))
	return append(append(append([]byte{}, b.Bytes()[:33]...), chunk...), b.Bytes()[33:]...)
}

// TestTurned: a PNG is turned as its EXIF data say, too.
func TestTurned(t *testing.T) {
	m := image.NewNRGBA(image.Rect(0, 0, 40, 20))
	for i := range m.Pix {
		m.Pix[i] = 255
	}
	for y := range 10 {
		for x := range 10 {
			m.SetNRGBA(x, y, color.NRGBA{200, 10, 10, 255}) // at the top left
		}
	}
	_, got := made(t, turnedPNG(t, m, 6), "turned.png", rulebook.Picture{Size: [2]int{20, 40}, Formats: []string{"png"}}, nil)
	if c := color.NRGBAModel.Convert(got.At(15, 4)).(color.NRGBA); c.R != 200 || c.G != 10 {
		t.Errorf("at the top right: %v", c)
	}
}

// TestPixelArt: the pixels of small art stay squares of one colour, whatever the size; where a master says "smooth", they don't.
func TestPixelArt(t *testing.T) {
	colours := []color.NRGBA{{20, 24, 40, 255}, {250, 200, 60, 255}, {200, 60, 80, 255}, {60, 160, 120, 255}, {240, 240, 240, 255}}
	art := image.NewNRGBA(image.Rect(0, 0, 64, 36))
	for y := range 36 {
		for x := range 64 {
			art.SetNRGBA(x, y, colours[(x*7+y*3+x*y)%5])
		}
	}
	for name, c := range map[string]struct {
		m    *image.NRGBA
		size [2]int
	}{
		"whole factor": {art, [2]int{640, 360}}, "cropped": {art, [2]int{630, 350}}, "enlarged before": {repeated(art, 4), [2]int{1280, 720}},
	} {
		count := func(scale string) int {
			_, got := made(t, pngOf(t, c.m), "art.png", rulebook.Picture{Size: c.size, Formats: []string{"png"}},
				func(p *project.Picture) { p.Scale = scale })
			seen := map[color.Color]bool{}
			for y := range c.size[1] {
				for x := range c.size[0] {
					seen[color.NRGBAModel.Convert(got.At(x, y))] = true
				}
			}
			return len(seen)
		}
		if n := count(""); n != len(colours) {
			t.Errorf("%s: %d colours of %d", name, n, len(colours))
		}
		if n := count("smooth"); n < 50 {
			t.Errorf("%s, smooth: %d colours", name, n)
		}
	}
}

// TestFramed: a crop that takes the title away, or most of a picture, is told.
func TestFramed(t *testing.T) {
	wide := pngOf(t, drawn(1600, 400, func(x, y float64) color.NRGBA {
		if int(x*80)%2 == 0 {
			return color.NRGBA{245, 235, 200, 255}
		}
		return color.NRGBA{30, 40, uint8(60 + 90*y), 255}
	}))
	for name, c := range map[string]struct {
		title []int
		size  [2]int
		role  string
		want  string
	}{
		"title cut":        {[]int{0, 40, 100, 20}, [2]int{400, 300}, "cover", "picture-cropped picture-cropped"},
		"title inside":     {[]int{40, 30, 20, 30}, [2]int{800, 300}, "cover", ""},
		"title at an edge": {[]int{10, 30, 50, 30}, [2]int{1000, 300}, "cover", "picture-cropped"},
		"tiny title":       {[]int{45, 45, 10, 5}, [2]int{1000, 300}, "cover", "picture-dim"},
		"as it is":         {nil, [2]int{800, 200}, "banner", ""},
	} {
		o, _ := made(t, wide, "wide.png", rulebook.Picture{Role: c.role, Size: c.size, Formats: []string{"jpeg"}},
			func(p *project.Picture) { p.Title = c.title })
		if got := kinds(o); got != c.want {
			t.Errorf("%s: %q, want %q: %+v", name, got, c.want, o.Problems)
		}
	}
}

// TestNoHalo: a sharp edge that is made smaller stays between its two sides, and is no wider than a pixel or two.
func TestNoHalo(t *testing.T) {
	m := image.NewNRGBA(image.Rect(0, 0, 900, 40))
	for y := range 40 {
		for x := range 900 {
			c := color.NRGBA{60, 60, 60, 255}
			if x >= 431 {
				c = color.NRGBA{190, 190, 190, 255}
			}
			m.SetNRGBA(x, y, c)
		}
	}
	for _, width := range []int{640, 300, 133, 1400} {
		small := scaled(m, region{0, 0, 900, 40}, width, 20).image()
		between := 0
		for x := range width {
			switch v := small.NRGBAAt(x, 10).R; {
			case v < 59 || v > 191:
				t.Errorf("%d wide: %d at %d", width, v, x)
			case v > 66 && v < 184:
				between++
			}
		}
		if between > 3 {
			t.Errorf("%d wide: the edge is %d pixels wide", width, between)
		}
	}
}

// TestMoves: a GIF of two pictures is animated, also where nothing says that it goes round.
func TestMoves(t *testing.T) {
	palette := color.Palette{color.NRGBA{200, 40, 40, 255}, color.NRGBA{250, 230, 90, 255}}
	for n, want := range map[int]string{1: "", 2: "picture-moving"} {
		g := &gif.GIF{LoopCount: -1}
		for i := range n {
			p := image.NewPaletted(image.Rect(0, 0, 40, 30), palette)
			for at := range p.Pix {
				p.Pix[at] = uint8((at/40 + at%40/9 + i) % 2)
			}
			g.Image, g.Delay = append(g.Image, p), append(g.Delay, 10)
		}
		var b bytes.Buffer
		if err := gif.EncodeAll(&b, g); err != nil {
			t.Fatal(err)
		}
		if bytes.Contains(b.Bytes(), []byte("NETSCAPE")) {
			t.Fatal("it has a loop block")
		}
		if o, _ := made(t, b.Bytes(), "moth.gif", rulebook.Picture{Size: [2]int{40, 30}}, nil); kinds(o) != want {
			t.Errorf("%d pictures: %q, want %q", n, kinds(o), want)
		}
	}
}

// TestDrawing: an SVG is drawn as large as is wanted; one with something that wouldn't be drawn is none.
func TestDrawing(t *testing.T) {
	const head = `<?xml version="1.0"?><svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 160 90">`
	const sky = `<defs><linearGradient id="s" x1="0" y1="0" x2="0" y2="1"><stop offset="0" stop-color="#101331"/>` +
		`<stop offset="1" stop-color="#d3603a"/></linearGradient></defs><rect width="160" height="90" fill="url(#s)"/>`
	o, m := made(t, []byte(head+sky+`<circle cx="130" cy="20" r="9" fill="#f5e6b0"/></svg>`), "cover.svg", rulebook.Picture{Size: [2]int{640, 360}}, nil)
	if kinds(o) != "" {
		t.Fatalf("%+v", o.Problems)
	}
	for at, want := range map[[2]int]color.NRGBA{{520, 80}: {0xf5, 0xe6, 0xb0, 255}, {20, 2}: {0x11, 0x13, 0x31, 255}, {20, 180}: {0x72, 0x3a, 0x36, 255}} {
		got := color.NRGBAModel.Convert(m.At(at[0], at[1])).(color.NRGBA)
		for k, d := range [3]int{int(got.R) - int(want.R), int(got.G) - int(want.G), int(got.B) - int(want.B)} {
			if d > 6 || d < -6 {
				t.Errorf("at %v: %v, want %v (%d)", at, got, want, k)
			}
		}
	}
	o, _ = made(t, []byte(head+`<text x="5" y="9">Lane</text></svg>`), "words.svg", rulebook.Picture{Size: [2]int{640, 360}}, nil)
	if kinds(o) != "picture-broken" || !strings.Contains(o.Problems[0].Message, "<text>") {
		t.Errorf("%+v", o.Problems)
	}
	made(t, []byte("<svg viewBox='0 0 1e9 1'><path d='M 1 z z z L'/>"), "odd.svg", rulebook.Picture{Size: [2]int{64, 36}}, nil)
}

// TestTitleContrast: a title that hardly stands out is told.
func TestTitleContrast(t *testing.T) {
	with := func(letters color.NRGBA) string {
		m := drawn(640, 360, func(x, y float64) color.NRGBA {
			switch {
			case x > .2 && x < .8 && y > .4 && y < .6 && int(x*40)%2 == 0:
				return letters
			case y > .9:
				return color.NRGBA{250, 240, 220, 255}
			}
			return color.NRGBA{40, 50, 90, 255}
		})
		o, _ := made(t, pngOf(t, m), "cover.png", rulebook.Picture{Size: [2]int{640, 360}}, func(p *project.Picture) { p.Title = []int{20, 40, 60, 20} })
		return kinds(o)
	}
	if got := with(color.NRGBA{60, 70, 110, 255}); got != "picture-dim" {
		t.Errorf("faint letters: %q", got)
	}
	if got := with(color.NRGBA{250, 230, 160, 255}); got != "" {
		t.Errorf("bright letters: %q", got)
	}
}
