package slim

import (
	"bytes"
	"encoding/binary"
	"image"
	"image/color"
	stdjpeg "image/jpeg"
	stdpng "image/png"
	"math/rand/v2"
	"strings"
	"testing"
)

func encodePNG(t testing.TB, m image.Image, level stdpng.CompressionLevel) []byte {
	t.Helper()
	var b bytes.Buffer
	if err := (&stdpng.Encoder{CompressionLevel: level}).Encode(&b, m); err != nil {
		t.Fatal(err)
	}
	return b.Bytes()
}

// pictures are of all the kinds that PNG has.
func pictures() map[string]image.Image {
	bounds := image.Rect(0, 0, 61, 47)
	palette := color.Palette{color.Black, color.White, color.NRGBA{200, 120, 40, 255}, color.NRGBA{0, 0, 0, 0}}
	list := map[string]image.Image{}
	paletted, gray, gray16 := image.NewPaletted(bounds, palette), image.NewGray(bounds), image.NewGray16(bounds)
	rgba, wide := image.NewNRGBA(bounds), image.NewNRGBA64(bounds)
	opaque := image.NewRGBA(bounds)
	for y := range bounds.Dy() {
		for x := range bounds.Dx() {
			paletted.SetColorIndex(x, y, uint8((x/7+y/5)%4))
			gray.SetGray(x, y, color.Gray{uint8(x*3 + y)})
			gray16.SetGray16(x, y, color.Gray16{uint16(x*300 + y*7)})
			rgba.SetNRGBA(x, y, color.NRGBA{uint8(x * 4), uint8(y * 5), uint8(x * y), uint8(255 - x)})
			wide.SetNRGBA64(x, y, color.NRGBA64{uint16(x * 1000), uint16(y * 900), 7, 65535})
			opaque.SetRGBA(x, y, color.RGBA{uint8(x * 4), uint8(y * 5), 9, 255})
		}
	}
	list["paletted"], list["gray"], list["gray16"], list["rgba"], list["wide"], list["opaque"] = paletted, gray, gray16, rgba, wide, opaque
	return list
}

// TestPNG: every kind of picture keeps its pixels and becomes smaller; texts in it go, colour profiles stay.
func TestPNG(t *testing.T) {
	for name, m := range pictures() {
		before := encodePNG(t, m, stdpng.BestSpeed)
		var with bytes.Buffer
		with.Write(before[:33])
		writeChunk(&with, "tEXt", []byte("Comment\x00made on the moor"))
		writeChunk(&with, "gAMA", []byte{0, 0, 0xb1, 0x8f})
		with.Write(before[33:])
		after := Content("a.png", with.Bytes())
		if len(after) >= with.Len() || !samePixels(with.Bytes(), after) {
			t.Errorf("%s: %d bytes became %d", name, with.Len(), len(after))
		}
		if bytes.Contains(after, []byte("moor")) || !bytes.Contains(after, []byte("gAMA")) {
			t.Errorf("%s: the wrong chunks were kept", name)
		}
	}
}

// TestFewerColours: a picture with more room for colours than it has gets less, and every pixel stays, also the colour of what is
// transparent.
func TestFewerColours(t *testing.T) {
	bounds := image.Rect(0, 0, 61, 47)
	few, grey, greyAlpha, opaque, hidden := image.NewNRGBA(
		bounds,
	), image.NewNRGBA(
		bounds,
	), image.NewNRGBA(
		bounds,
	), image.NewNRGBA(
		bounds,
	), image.NewNRGBA(
		bounds,
	)
	for y := range bounds.Dy() {
		for x := range bounds.Dx() {
			few.SetNRGBA(x, y, color.NRGBA{uint8(x % 3 * 90), uint8(y % 2 * 50), 7, uint8(255 - y%2*80)})
			v := uint8(x*5 ^ y*3)
			grey.SetNRGBA(x, y, color.NRGBA{v, v, v, 255})
			greyAlpha.SetNRGBA(x, y, color.NRGBA{v, v, v, uint8(x + y*5)})
			opaque.SetNRGBA(x, y, color.NRGBA{v, uint8(x * y), uint8(x*31 + y), 255})
			hidden.SetNRGBA(x, y, color.NRGBA{uint8(x % 3 * 60), uint8(y % 2), uint8((x * y) % 2), 0})
		}
	}
	for name, c := range map[string]struct {
		m    image.Image
		kind byte
	}{
		"few": {few, paletteKind}, "grey": {grey, greyKind}, "grey with alpha": {greyAlpha, greyAlphaKind}, "opaque": {opaque, colourKind},
		"hidden": {hidden, paletteKind},
	} {
		var b bytes.Buffer
		if err := stdpng.Encode(&b, translucent{c.m}); err != nil {
			t.Fatal(err)
		}
		after := Content("a.png", b.Bytes())
		if b.Bytes()[25] != alphaKind || after[25] != c.kind || !samePixels(b.Bytes(), after) {
			t.Errorf("%s: of type %d became one of type %d, %d bytes of %d", name, b.Bytes()[25], after[25], len(after), b.Len())
		}
	}
}

// translucent hides that a picture is opaque, so that it is written with transparency.
type translucent struct{ image.Image }

func (t translucent) Opaque() bool { return false }

// TestScripts: what a program can observe stays.
func TestScripts(t *testing.T) {
	text := `/*! licence */
function lamp(a, b, unused) { /* a comment */ return a + +b - -b / 2 }  // another
const shader = function () { /* void main() {} */ };
const wick = /[/"]{2}/g, oil = a => { // c
	return a
	++wick
}
label: for (;;) { break label }
x = y / 2 /1; if (x) /re/.test("a  b");
`
	got := string(script([]byte(text)))
	want := "/*! licence */\nfunction lamp(a,b,unused){return a+ +b- -b / 2}\nconst shader=function(){/* void main() {} */};"
	if !strings.HasPrefix(got, want) || strings.Contains(got, "another") || !strings.Contains(got, "return a\n++wick") {
		t.Errorf("%s", got)
	}
	css := string(style([]byte("a  b { flex: 1 1 0px; /* c */ color : #ff0000 ; width: calc(1px  +  2px) }\n:root { --gap:  a ,  b ; }")))
	if css != "a b{flex: 1 1 0px;color : #ff0000;width: calc(1px + 2px)}:root{--gap:  a ,  b ;}" {
		t.Errorf("%s", css)
	}
	wasm := "\x00asm\x01\x00\x00\x00"
	if got := Content("a.wasm", []byte(wasm+"\x00\x05\x04name\x00\x06\x04lane!"[:7]+"\x00\x06\x04lane!")); string(
		got,
	) != wasm+"\x00\x06\x04lane!" {
		t.Errorf("%q", got)
	}
}

// TestLeftAlone: what can't be made smaller with certainty stays as it is, byte for byte.
func TestLeftAlone(t *testing.T) {
	whole := encodePNG(t, pictures()["rgba"], stdpng.BestSpeed)
	turned := append(
		[]byte("\xff\xd8\xff\xe1\x00\x22Exif\x00\x00II*\x00\x08\x00\x00\x00\x01\x00\x12\x01\x03\x00\x01\x00\x00\x00\x06\x00\x00\x00"),
		"\xff\xda\x00\x02picture"...)
	for name, data := range map[string][]byte{
		"cut.png": whole[:len(whole)/2], "moves.png": bytes.Replace(whole, []byte("IDAT"), []byte("acTL"), 1),
		"turned.jpg": turned, "broken.js": []byte("function ( { " + strings.Repeat("x ", 100)),
		"a.json":    []byte(`{"a": 1, ` + strings.Repeat(" ", 100)),
		"lane.pack": []byte("   packed   data   "), "short.mp3": []byte("ID3\x03\x00\x00\x00\x00\x7f\x7f"),
		"a.wav": []byte("RIFF\xff\x00\x00\x00WAVELIST\xff\xff\xff\xff"),
	} {
		if got := Content(name, data); !bytes.Equal(got, data) {
			t.Errorf("%s was changed to %d bytes", name, len(got))
		}
	}
}

// TestMetadata: what players neither see nor hear goes, and the rest stays.
func TestMetadata(t *testing.T) {
	var photo bytes.Buffer
	if err := stdjpeg.Encode(&photo, pictures()["opaque"], nil); err != nil {
		t.Fatal(err)
	}
	noted := append(
		[]byte("\xff\xd8\xff\xfe\x00\x0dmade on moor\xff\xe2\x00\x06ICC!")[:0:0],
		"\xff\xd8\xff\xfe\x00\x0emade on moor\xff\xe2\x00\x06ICC!"...)
	noted = append(noted, photo.Bytes()[2:]...)
	if got := Content("a.jpg", noted); bytes.Contains(got, []byte("moor")) || !bytes.Contains(got, []byte("ICC!")) ||
		!bytes.HasSuffix(got, photo.Bytes()[20:]) {
		t.Error("the photograph has the wrong parts")
	}
	sound := append([]byte("\xff\xfb\x90\x00"), bytes.Repeat([]byte("s"), 400)...)
	tagged := append(append([]byte("ID3\x03\x00\x00\x00\x00\x00\x14"), make([]byte, 20)...), sound...)
	tagged = append(tagged, append([]byte("TAG"), make([]byte, 125)...)...)
	if got := Content("a.mp3", tagged); !bytes.Equal(got, sound) {
		t.Errorf("the sound has %d bytes, not %d", len(got), len(sound))
	}
	chunk := func(kind, data string) string {
		return kind + string(binary.LittleEndian.AppendUint32(nil, uint32(len(data)))) + data
	}
	body := "WAVE" + chunk("fmt ", "0123456789abcdef") + chunk("LIST", "made on the moor") + chunk("data", "sound!")
	if got := Content("a.wav", []byte("RIFF"+string(binary.LittleEndian.AppendUint32(nil, uint32(len(body))))+body)); bytes.Contains(
		got,
		[]byte("moor"),
	) ||
		!bytes.HasSuffix(got, []byte("sound!")) ||
		int(binary.LittleEndian.Uint32(got[4:])) != len(got)-8 {
		t.Errorf("%q", got)
	}
	info := "\x00\x00\x00\x02ab"
	if got := Content("a.flac", []byte("fLaC"+info+"\x84\x00\x00\x04moorframes")); string(got) != "fLaC\x80\x00\x00\x02abframes" {
		t.Errorf("%q", got)
	}
	text := "/* made on the moor */\nlet lantern = 'lit';\n\nconsole.log( lantern );"
	if got := string(Content("a.js", []byte(text))); strings.Contains(got, "moor") || !strings.Contains(got, "lantern") {
		t.Errorf("%q", got)
	}
	page := Content(
		"a.html",
		[]byte(
			"<!doctype html><html><head><!-- havvel: SDK --><script src=\"/sdk.js\"></script><!-- /havvel -->\n\n\n  </head><body>   "+
				"<canvas></canvas></body></html>",
		),
	)
	if !bytes.Contains(page, []byte("<!-- havvel: SDK -->")) {
		t.Errorf("%s", page)
	}
}

// FuzzContent: whatever a file holds, it never becomes larger, and a picture keeps its pixels.
func FuzzContent(f *testing.F) {
	for _, m := range pictures() {
		f.Add("a.png", encodePNG(f, m, stdpng.DefaultCompression))
	}
	chance := rand.New(rand.NewPCG(1, 2))
	for _, seed := range []string{"\xff\xd8\xff\xe0\x00\x04ab\xff\xda", "RIFF\x10\x00\x00\x00WEBPVP8X",
		"RIFF\x10\x00\x00\x00WAVEdata\x01\x00\x00\x00a", "ID3\x03\x00\x00\x00\x00\x00\x01a\xff\xfb", "fLaC\x80\x00\x00\x01a"} {
		noise := make([]byte, 30)
		for i := range noise {
			noise[i] = byte(chance.Uint32())
		}
		f.Add("a.bin", append([]byte(seed), noise...))
	}
	for _, name := range []string{"a.js", "a.css", "a.html", "a.svg", "a.json"} {
		f.Add(name, []byte("<svg> { a: 'b' } /* c */ </svg>"))
	}
	f.Fuzz(func(t *testing.T, name string, data []byte) {
		small := Content(name, bytes.Clone(data))
		if len(small) > len(data) {
			t.Fatalf("%d bytes became %d", len(data), len(small))
		}
		if bytes.HasPrefix(data, []byte(pngSignature)) && !bytes.Equal(small, data) && !samePixels(data, small) {
			t.Fatal("the pixels changed")
		}
	})
}
