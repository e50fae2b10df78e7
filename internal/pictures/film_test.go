package pictures

import (
	"bytes"
	"image/color"
	"image/jpeg"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"havvel/internal/project"
	"havvel/internal/rulebook"
	"havvel/internal/webm"
)

// TestGIF: a clip keeps within its weight and its length, and its pictures in their order.
func TestGIF(t *testing.T) {
	var frames []Frame
	for i := range 30 {
		var b bytes.Buffer
		m := drawn(160, 90, func(x, y float64) color.NRGBA {
			if x*30 > float64(i) {
				return night
			}
			return color.NRGBA{255, uint8(200 * y), 40, 255}
		})
		if err := jpeg.Encode(&b, m, nil); err != nil {
			t.Fatal(err)
		}
		frames = append(frames, Frame{i * 100, b.Bytes()})
	}
	whole, err := GIF(frames, 80, 45, 2*time.Second, 0)
	if err != nil {
		t.Fatal(err)
	}
	small, err := GIF(frames, 80, 45, 2*time.Second, int64(len(whole))*2/3)
	if err != nil || len(small) > len(whole)*2/3 {
		t.Errorf("%d bytes, of %d: %v", len(small), len(whole), err)
	}
	if _, err := GIF(frames[:1], 80, 45, time.Second, 0); err == nil {
		t.Error("one picture was taken for a clip")
	}
	var stills [][]byte
	for i := range 10 {
		c := night
		if i == 7 {
			c = red
		}
		stills = append(stills, pngOf(t, drawn(64, 36, func(x, _ float64) color.NRGBA {
			if x > .5 {
				return c
			}
			return blue
		})))
	}
	varied, err := Varied(append([][]byte{pngOf(t, drawn(64, 36, func(float64, float64) color.NRGBA { return night }))}, stills...), 2)
	if err != nil || len(varied) != 2 || !bytes.Equal(varied[1], stills[7]) {
		t.Errorf("%d are chosen, the second is not the one that differs: %v", len(varied), err)
	}
}

// element is one of WebM: its id, its size, and what is in it.
func element(id string, inner ...string) string {
	body := strings.Join(inner, "")
	return id + string([]byte{0x40 | byte(len(body)>>8), byte(len(body))}) + body
}

// film is the head of a WebM of that size; its segment has no size, as when it was recorded.
func film(w, h string) []byte {
	video := element("\xe0", element("\xb0", w), element("\xba", h))
	return []byte(
		element(
			"\x1a\x45\xdf\xa3",
			"webm",
		) + "\x18\x53\x80\x67\x01\xff\xff\xff\xff\xff\xff\xff" + element(
			"\x15\x49\xa9\x66",
			"info",
		) + element(
			"\x16\x54\xae\x6b",
			element("\xae", element("\xd7", "\x01"), video),
		) + element("\x1f\x43\xb6\x75", "cluster"),
	)
}

func TestFilmSize(t *testing.T) {
	for _, c := range []struct {
		data []byte
		w, h int
	}{
		{film("\x02\x80", "\x01\x68"), 640, 360}, {film("\x08", "\x09"), 8, 9}, {film("", ""), 0, 0},
		{[]byte("\x1a\x45\xdf\xa3"), 0, 0}, {nil, 0, 0}, {film("\x02\x80", "\x01\x68")[:40], 0, 0}, {bytes.Repeat([]byte{0}, 99), 0, 0},
	} {
		if w, h := webm.Size(c.data); w != c.w || h != c.h {
			t.Errorf("%q: %dx%d, want %dx%d", c.data, w, h, c.w, c.h)
		}
	}
}

// TestAnimations: of what moves the first picture is taken and said, and a portal that takes such clips gets them as they are.
func TestAnimations(t *testing.T) {
	for name, want := range map[string]struct{ left, right color.Color }{
		"anim.gif":        {red, blue},
		"anim.webp":       {red, blue},
		"anim-part.webp":  {color.NRGBA{}, blue}, // its first frame covers the right half
		"anim-clear.webp": {color.NRGBA{}, blue}, // its left half is transparent
	} {
		data, err := os.ReadFile(filepath.Join("testdata", name))
		if err != nil {
			t.Fatal(err)
		}
		o, m := made(t, data, name, rulebook.Picture{Size: [2]int{40, 20}, Formats: []string{"png"}}, nil)
		if m == nil || !strings.Contains(kinds(o), string(Moving)) {
			t.Errorf("%s: %+v", name, o.Problems)
			continue
		}
		if l, r := m.At(4, 16), m.At(34, 10); !near(l, want.left) || !near(r, want.right) {
			t.Errorf("%s: %v and %v, want %v and %v", name, l, r, want.left, want.right)
		}
		format := strings.TrimPrefix(filepath.Ext(name), ".")
		o = cuts(t, map[string][]byte{name: data}, []project.Picture{{File: name, Roles: []string{"clip"}}},
			rulebook.Picture{Name: "clip", Role: "clip", Size: [2]int{40, 20}, Formats: []string{format}})
		if len(o.Cuts) != 1 || len(o.Problems) > 0 || o.Cuts[0].Bytes != int64(len(data)) || o.Cuts[0].Type != "image/"+format {
			t.Errorf("%s as a clip: %+v %+v", name, o.Cuts, o.Problems)
		}
	}
}

// TestLasts: clips say how long they last, each in its own way.
func TestLasts(t *testing.T) {
	for name, want := range map[string]time.Duration{
		"timed.gif": 750 * time.Millisecond, "anim.webp": 200 * time.Millisecond, "timed.png": 750 * time.Millisecond, "recorded.webm": 1450 * time.Millisecond,
	} {
		data, err := os.ReadFile(filepath.Join("testdata", name))
		if err != nil {
			t.Fatal(err)
		}
		h, err := readHeader(name, bytes.NewReader(data))
		if err != nil {
			t.Fatal(name, err)
		}
		if got := h.lasts(data); (got - want).Abs() > 60*time.Millisecond {
			t.Errorf("%s lasts %v, not %v", name, got, want)
		}
	}
}
