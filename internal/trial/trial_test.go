package trial

import (
	"bytes"
	"cmp"
	"encoding/json"
	"errors"
	"image"
	"image/color"
	"image/png"
	"math"
	"os"
	"strings"
	"testing"
	"time"

	"havvel/internal/finding"
	"havvel/internal/serve"
)

// TestParse: a step says what it does, or what can stand there.
func TestParse(t *testing.T) {
	for line, says := range map[string]string{
		"wait 500ms": "", "press Enter": "", "press a": "", "tap 50% 80%": "", "tap 10 20": "", "drag 10% 50% to 90% 50%": "",
		"picture the first night":            "",
		"expect event level-begun within 5s": "", "expect statistic lanterns": "", "expect call Portal.ready": "", "for 3: press " +
			"ArrowRight;  wait 10ms": "",
		"": "a step begins with", "click 3": "a step begins with", "wait": "invalid duration", "wait 2h": "a minute is the most",
		"press Entr": `there is no key "Entr"`,
		"tap 50%":    "tap 50% 80%", "tap x 3": `"x" is no place`, "tap -1 3": `"-1" is no place`, "drag 1 2": "drag 10% 50% to 90% 50%",
		"picture": "needs a name", "hold a for 2s": "", "hold a": "write which key", "hold a for ever": "no time",
		"hold Entr for 1s": "there is no key",
		"down ArrowRight":  "", "up a": "", "down": "there is no key", "hover 1 2": "", "hover 1": "hover 50% 80%", "right-press 1 2": "", "right-press": "right-press 50% 80%", "wheel -300": "",
		"wheel":  "by how many",
		"rotate": "", "expect text Night two within 2s": "", "expect text Night two": "",
		"expect": "write what", "expect level": "write what", "expect event x within soon": "no time", "for 3 press a": "write how often",
		"for 3: jump": "a step begins with", "for 9: for 9: wait 1s": "for within a for",
	} {
		s, err := Parse(line)
		if (err == nil) != (says == "") || err != nil && !strings.Contains(err.Error(), says) {
			t.Errorf("%q: %v", line, err)
		}
		if err == nil && s.do == nil {
			t.Errorf("%q does nothing", line)
		}
	}
}

// TestFit: how a canvas meets its window, in numbers.
func TestFit(t *testing.T) {
	for name, c := range map[string]struct {
		state string
		want  Fit
	}{
		"whole": {`{"vw":800,"vh":600,"dpr":1,"canvas":{"x":0,"y":0,"w":800,"h":600,"bw":800,"bh":600}}`,
			Fit{Canvas: true, Covers: 1, Sharp: 1}},
		"half": {`{"vw":800,"vh":600,"dpr":2,"canvas":{"x":200,"y":0,"w":400,"h":600,"bw":400,"bh":600}}`,
			Fit{Canvas: true, Covers: .5, Sharp: .5}},
		"too large": {`{"vw":800,"vh":600,"dpr":1,"sw":1600,"sh":600,"canvas":{"x":0,"y":0,"w":1600,"h":600,"bw":1600,"bh":600}}`,
			Fit{Canvas: true, Covers: 1, Outside: .5, Overflow: true, Sharp: 1}},
		"stretched": {`{"vw":800,"vh":600,"dpr":1,"canvas":{"x":0,"y":0,"w":800,"h":400,"bw":400,"bh":400}}`,
			Fit{Canvas: true, Covers: 2. / 3, Stretched: 1, Sharp: .5}},
		"letterbox": {`{"vw":800,"vh":600,"dpr":1,"canvas":{"x":0,"y":0,"w":800,"h":400,"bw":400,"bh":400,"fit":"contain"}}`,
			Fit{Canvas: true, Covers: 1. / 3, Sharp: 1}},
		"no canvas":  {`{"vw":800,"vh":600}`, Fit{}},
		"of no size": {`{"vw":800,"vh":600,"dpr":1,"canvas":{"x":0,"y":0,"w":0,"h":0}}`, Fit{}},
	} {
		var s state
		if err := json.Unmarshal([]byte(c.state), &s); err != nil {
			t.Fatal(err)
		}
		got := fitOf(&s, nil)
		for _, x := range []struct{ got, want float64 }{{got.Covers, c.want.Covers}, {got.Outside, c.want.Outside},
			{got.Stretched, c.want.Stretched}, {got.Sharp, c.want.Sharp}} {
			if math.Abs(x.got-x.want) > 1e-9 || got.Canvas != c.want.Canvas || got.Overflow != c.want.Overflow {
				t.Errorf("%s: %+v, want %+v", name, got, c.want)
			}
		}
	}
}

// TestBars: bars that a game draws inside of its canvas, and skies that are none.
func TestBars(t *testing.T) {
	for name, c := range map[string]struct {
		at   func(x, y int) color.Color
		want float64
	}{
		"at both sides": {func(x, y int) color.Color {
			if x < 40 || x >= 160 {
				return color.Black
			}
			return color.RGBA{uint8(x), uint8(y), 90, 255}
		}, .4},
		"above only": {func(x, y int) color.Color {
			if y < 40 {
				return color.Black
			}
			return color.RGBA{uint8(x), uint8(y), 90, 255}
		}, 0},
		"of one colour": {func(int, int) color.Color { return color.White }, 0},
	} {
		m, _, err := image.Decode(bytes.NewReader(picture(t, c.at)))
		if err != nil {
			t.Fatal(err)
		}
		if got := bars(m, m.Bounds()); math.Abs(got-c.want) > .01 {
			t.Errorf("%s: %.2f, want %.2f", name, got, c.want)
		}
	}
}

// TestGrowth: memory that grows, and memory that goes up and down.
func TestGrowth(t *testing.T) {
	for name, c := range map[string]struct {
		heap func(i int) int64
		want int
	}{
		"grows":          {func(i int) int64 { return 10e6 + int64(i)*1e6 }, 1},
		"up and down":    {func(i int) int64 { return 10e6 + int64(i%5)*4e6 }, 0},
		"stays":          {func(int) int64 { return 10e6 }, 0},
		"grows a little": {func(i int) int64 { return 10e6 + int64(i)*2e3 }, 0},
	} {
		v := &View{Started: true}
		for i := range 30 {
			v.Memory = append(v.Memory, Memory{MS: 2000 + i*500, Heap: c.heap(i)})
		}
		if got := (&Trial{}).growth(v); len(got) != c.want {
			t.Errorf("%s: %v", name, got)
		}
	}
}

// TestBursts: calls that come too often.
func TestBursts(t *testing.T) {
	v := &View{Started: true}
	for i := range 12 {
		v.Heard = append(v.Heard, serve.Event{Kind: "call", Name: "Brackwater.score", At: float64(i * 40)})
		v.Heard = append(v.Heard, serve.Event{Kind: "call", Name: "Brackwater.level", At: float64(i * 400)})
	}
	if got := (&Trial{}).bursts(v); len(got) != 1 || !strings.Contains(got[0].Message, "Brackwater.score was called 12 times") {
		t.Errorf("%v", got)
	}
}

func TestKept(t *testing.T) {
	values := []string{"3", "9", "1", "4.5"}
	for keeps, want := range map[string]string{"highest": "9", "lowest": "1", "total": "17.5", "latest": "4.5", "": ""} {
		if got := kept(keeps, values); got != want {
			t.Errorf("%s: %q, want %q", keeps, got, want)
		}
	}
	if got := kept("highest", []string{"many"}); got != "" {
		t.Errorf("of what is no number %q is kept", got)
	}
}

func picture(t *testing.T, at func(x, y int) color.Color) []byte {
	t.Helper()
	m := image.NewRGBA(image.Rect(0, 0, 200, 120))
	for y := range 120 {
		for x := range 200 {
			m.Set(x, y, at(x, y))
		}
	}
	var b bytes.Buffer
	if err := png.Encode(&b, m); err != nil {
		t.Fatal(err)
	}
	return b.Bytes()
}

// TestPictures: what is blank, dark, and different from before.
func TestPictures(t *testing.T) {
	black := picture(t, func(int, int) color.Color { return color.Black })
	white := picture(t, func(int, int) color.Color { return color.White })
	busy := picture(t, func(x, y int) color.Color { return color.RGBA{uint8(x), uint8(2 * y), uint8(x * y), 255} })
	for name, c := range map[string]struct {
		data    []byte
		visible bool
	}{"black": {black, false}, "white": {white, false}, "busy": {busy, true}, "broken": {[]byte("x"), false}} {
		if s := look(c.data); s.visible() != c.visible {
			t.Errorf("%s: %d, %f", name, s.brights, s.spread)
		}
	}
}

// TestKeep: a result is found again, and one that was cut off is as good as none.
func TestKeep(t *testing.T) {
	folder := t.TempDir()
	if Last(folder, "arcade") != nil {
		t.Error("there is one before the first")
	}
	r := &Result{
		Format:      Format,
		At:          time.Now().UTC().Truncate(time.Second),
		Destination: "arcade",
		Fingerprint: "441fd1640000",
		Findings:    []finding.Finding{{ID: "trial-still", Level: finding.Warning, Message: "<b>", Fix: "f"}},
		Views: []*View{
			{
				Name:     "frame",
				Answer:   Yes,
				Started:  true,
				Requests: []*Request{{Path: "a.js", EndMS: 12}, {Path: "b.js", Status: 404, EndMS: 900}},
				Heard:    []serve.Event{{Kind: "call", Name: "A.b", Arguments: []byte(`["x",1]`), At: 30}},
			},
		},
	}
	r.Views[0].first = &First{Wide: 1, High: 1, Light: []uint8{9}, Blue: []uint8{128}, Red: []uint8{128}, Rough: []uint8{0}, Moves: []bool{false}}
	if err := errors.Join(r.Keep(folder), r.Accept(folder)); err != nil {
		t.Fatal(err)
	}
	right, err := Accepted(folder, "arcade")
	if err != nil || FirstsOf(folder, "arcade", "441fd1640000") == nil || FirstsOf(folder, "arcade", "0") != nil {
		t.Errorf("kept first screens are lost: %v", err)
	}
	another := *r.Views[0].first
	another.Light = []uint8{90}
	for first, notes := range map[*First]int{r.Views[0].first: 0, &another: 1} {
		if got := (&Trial{Accepted: right}).changed(&View{Name: "frame", Started: true, first: first}); len(got) != notes {
			t.Errorf("beside what was accepted: %v", got)
		}
	}
	last := Last(folder, "arcade")
	if last == nil || !last.Clean() || last.Views[0].Heard[0].Name != "A.b" {
		t.Errorf("%+v", last)
	}
	var page bytes.Buffer
	if err := last.Report(&page, "Lane & Moor", "Arcade"); err != nil {
		t.Fatal(err)
	}
	for _, has := range []string{"Lane &amp; Moor", "It starts, with no errors", "&lt;b&gt;", `A.b(&#34;x&#34;,1)`, "404", "b.js"} {
		if !strings.Contains(page.String(), has) {
			t.Errorf("the report lacks %q", has)
		}
	}
	if err := os.Truncate(file(folder, "arcade"), 20); err != nil {
		t.Fatal(err)
	}
	if Last(folder, "arcade") != nil {
		t.Error("half a result was taken for one")
	}
}

// FuzzParse: whatever stands in havvel.toml is a step or an error.
func FuzzParse(f *testing.F) {
	for _, line := range []string{"for 3: press a; for 2: wait 1ms", "tap 1e308% 3", "expect call a", "drag a to b"} {
		f.Add(line)
	}
	f.Fuzz(func(t *testing.T, line string) {
		if s, err := Parse(line); err == nil && s.do == nil {
			t.Fatal("a step that does nothing")
		}
	})
}

// TestRefused: a file that a host refuses, in whatever words, is missing; that it takes nothing from the game is no error of a game that runs.
func TestRefused(t *testing.T) {
	for _, c := range []struct {
		request Request
		level   finding.Level
		says    string
	}{
		{Request{Path: "rules.wasm", Kind: "Fetch", Status: 403}, finding.Error, "the host answers 403 Forbidden"},
		{Request{Path: "rules.wasm", Kind: "Fetch", Status: 404}, finding.Error, "it is not there"},
		{Request{Path: "lamp.png", Kind: "Image", Status: 503}, finding.Warning, "503"},
		{Request{Path: "seen", Kind: "Ping", Status: 405, sends: true}, finding.Warning, "the host answers 405"},
		{Request{Path: "save", Kind: "Fetch", Status: 404, sends: true}, finding.Warning, "the host answers 404"},
	} {
		f := (&Trial{}).request(&c.request)
		if f.ID != "trial-missing" || cmp.Or(f.Level, finding.Error) != c.level || !strings.Contains(f.Message, c.says) {
			t.Errorf("%+v: %s %s %s", c.request, f.ID, f.Level, f.Message)
		}
	}
}
